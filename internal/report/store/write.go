package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"tidepull/internal/engine"
	"tidepull/internal/engine/account"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
)

// A Going is a run that goes on: *run.Run.
type Going interface {
	Snapshot() *run.Snapshot
	Done() <-chan struct{}
}

// A Keeper writes a run into a store while it goes on. It looks at the run's
// snapshots once a second in a goroutine of its own: whatever happens to the
// store, the run is not slowed and not stopped.
type Keeper struct {
	store   *Store
	run     Going
	tool    string
	id      atomic.Int64
	trouble atomic.Pointer[string]
	done    chan struct{}

	at progress
}

// progress is how far a run has been written. What it points to is not changed: a transaction that fails leaves it.
type progress struct {
	settled, merged, rooms, messages, events, lanes, bodies, differences int

	open    map[int]*written // seconds that were written before they were settled, by their number
	reasons map[string]int
}

// Keep begins to keep a run. tool is the version that made it.
func (s *Store) Keep(r Going, tool string) *Keeper {
	k := &Keeper{store: s, run: r, tool: tool, done: make(chan struct{})}
	go k.follow()
	return k
}

// ID is the run's number in the store, 0 while it is not in there.
func (k *Keeper) ID() int64 { return k.id.Load() }

// Trouble says why the run is not being kept at the moment, or "".
func (k *Keeper) Trouble() string {
	if t := k.trouble.Load(); t != nil {
		return *t
	}
	return ""
}

// Wait blocks until the run is over and written, or given up.
func (k *Keeper) Wait() { <-k.done }

// lastTries is how often the end of a run is tried to be written.
const lastTries = 3

func (k *Keeper) follow() {
	defer close(k.done)
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
			k.try(k.run.Snapshot())
		case <-k.run.Done():
			for range lastTries {
				if k.try(k.run.Snapshot()) {
					return
				}
			}
			return
		}
	}
}

// try writes what is new; what could not be written is tried again.
func (k *Keeper) try(s *run.Snapshot) bool {
	at, id := k.at, k.ID()
	err := k.store.transaction(func(tx *sql.Tx) (err error) {
		id, err = k.write(tx, s, id, &at)
		return err
	})
	if err != nil {
		text := fmt.Sprintf("the run is not being kept in %s: %v", k.store.Path, err)
		k.trouble.Store(&text)
		return false
	}
	k.trouble.Store(nil)
	k.at = at
	k.id.Store(id)
	return true
}

// write writes what is new since at, which it moves on.
func (k *Keeper) write(tx *sql.Tx, s *run.Snapshot, id int64, at *progress) (int64, error) {
	if len(s.Names) == 0 {
		return id, nil // the loop has not reported yet
	}
	if id == 0 {
		var err error
		if id, err = k.begin(tx, s); err != nil {
			return 0, err
		}
	}
	w := newWriter(tx, id)
	open := map[int]*written{}
	for _, e := range s.Entries.Between(at.settled, s.Entries.Count()) {
		e, err := e.Whole()
		if err != nil {
			return 0, err
		}
		now := w.second(e, at.open[e.At])
		if e.Settled && e.At == at.settled {
			at.settled++
		} else {
			open[e.At] = now
		}
	}
	at.open = open
	if err := k.merge(w, s.Entries, at); err != nil {
		return 0, err
	}
	for ; at.rooms < len(s.Rooms); at.rooms++ {
		w.put("room", "number", at.rooms, "name", s.Rooms[at.rooms])
	}
	for ; at.messages < len(s.Kept); at.messages++ {
		w.message(&s.Kept[at.messages], s, true)
	}
	for ; at.events < len(s.Events); at.events++ {
		w.event(at.events, &s.Events[at.events])
	}
	for ; at.lanes < len(s.Lanes); at.lanes++ {
		r := &s.Lanes[at.lanes]
		w.put("lane", "ord", at.lanes, "at", r.At.Nanoseconds(), "client", r.Client, "what", r.What.String(),
			"number", int64(r.Number), "peer", r.Peer, "room", r.Room, "size", r.Size, "fate", r.Fate.String(),
			"kind", r.Kind.String(), "took", r.Took.Nanoseconds())
	}
	for ; at.bodies < len(s.Bodies); at.bodies++ {
		b := &s.Bodies[at.bodies]
		w.put("body", "message", int64(b.Number), "text", b.Text, "cut", b.Cut)
	}
	for ; at.differences < len(s.Differences); at.differences++ {
		w.difference(at.differences, &s.Differences[at.differences])
	}
	return id, k.finish(w, s, at)
}

// merge writes the seconds that have become one entry as one: what is older than an hour is known by the minute, here
// as in memory, so that a run of days is no larger than it is of use.
func (k *Keeper) merge(w *writer, all logbook.Seconds, at *progress) error {
	for ; at.merged < at.settled-run.KeptWhole; at.merged += all.Of(at.merged).Seconds() {
		e := all.Of(at.merged)
		if e == nil || e.At != at.merged || e.Merged == 0 && e.At+run.KeptWhole+2*run.MergedTogether > at.settled {
			return nil // it is not merged yet
		}
		if e.Merged == 0 { // it stays whole: something was broken then
			continue
		}
		whole, err := e.Whole()
		if err != nil {
			return err
		}
		for _, table := range []string{"second", "times", "cell", "latency"} {
			w.exec("DELETE FROM "+table+" WHERE run = ? AND at >= ? AND at < ?", w.run, e.At, e.At+e.Seconds())
		}
		w.second(whole, nil)
	}
	return nil
}

func (k *Keeper) begin(tx *sql.Tx, s *run.Snapshot) (int64, error) {
	o, err := outlineOf(s.Trial)
	if err != nil {
		return 0, err
	}
	result, err := tx.Exec("INSERT INTO run (trial, target, clients, started, tool, outline, kernel) VALUES (?, ?, "+
		"?, ?, ?, ?, ?)",
		s.Trial.Name, s.Trial.Hide(s.Trial.Target.Address), s.Trial.Clients(), s.Started.UnixMicro(), k.tool, o,
		s.KernelTimes)
	if err != nil {
		return 0, err
	}
	id, err := result.LastInsertId()
	if err != nil {
		return 0, err
	}
	w := newWriter(tx, id)
	for i, name := range s.Names {
		w.put("client", "number", i, "crew", s.Trial.Crews[s.CrewOf(int32(i))].Name, "name", name)
	}
	return id, w.err
}

// finish writes what changes with each second, and the end of the run.
func (k *Keeper) finish(w *writer, s *run.Snapshot, at *progress) error {
	state, why, summary := "running", "", []byte{}
	var verdict run.Verdict
	if s.Finished {
		state = "finished"
		var unreachable *engine.Unreachable
		switch {
		case errors.As(s.Err, &unreachable):
			state = "unreachable"
		case s.Err != nil, s.Stopped:
			state = "stopped"
		}
		verdict, why = s.Outcome()
		sum := run.Summarise(s)
		var err error
		if summary, err = json.Marshal(sum); err != nil {
			return err
		}
		for i := range s.Sent {
			w.exec("UPDATE client SET sent = ?, got = ? WHERE run = ? AND number = ?", s.Sent[i], s.Got[i], w.run, i)
		}
		for i, r := range s.FinalResults {
			w.put("final_check", "ord", i, "name", r.Name, "verdict", string(r.Verdict), "why", r.Why)
		}
		for _, m := range s.Sampled {
			w.message(&m, s, false)
		}
	}
	for text, n := range s.Reasons {
		if at.reasons[text] != n {
			w.put("reason", "text", text, "times", n)
		}
	}
	at.reasons = s.Reasons // of its own
	w.exec("UPDATE run SET started = ?, elapsed = ?, state = ?, verdict = ?, why = ?, summary = ?, happened = ?, "+
		"server = ?, server_side = ?, processes = ? WHERE id = ?", s.Started.UnixMicro(), s.Elapsed.Microseconds(),
		state,
		string(verdict), why,
		string(summary), w.json(s.Happened), w.json(s.Server), w.json(s.ServerSide), w.json(s.Processes), w.run)
	return w.err
}

// A writer writes rows of one run until the first error. It has each statement
// parsed once: a crowd that comes makes thousands of events a second. What was
// prepared in a transaction is closed with it.
type writer struct {
	tx       *sql.Tx
	run      int64
	prepared map[string]*sql.Stmt
	err      error
}

func newWriter(tx *sql.Tx, run int64) *writer {
	return &writer{tx: tx, run: run, prepared: map[string]*sql.Stmt{}}
}

func (w *writer) exec(query string, args ...any) {
	if w.err != nil {
		return
	}
	stmt := w.prepared[query]
	if stmt == nil {
		if stmt, w.err = w.tx.Prepare(query); w.err != nil {
			return
		}
		w.prepared[query] = stmt
	}
	_, w.err = stmt.Exec(args...)
}

func (w *writer) json(v any) string {
	b, err := json.Marshal(v)
	if w.err == nil {
		w.err = err
	}
	return string(b)
}

// put writes a row of the run into a table, over one that has the same key: columns are their names
// and values in turn.
func (w *writer) put(table string, columns ...any) {
	names, values := []string{"run"}, []any{w.run}
	for i := 0; i+1 < len(columns); i += 2 {
		names, values = append(names, columns[i].(string)), append(values, columns[i+1])
	}
	w.exec("INSERT OR REPLACE INTO "+table+" ("+strings.Join(names, ", ")+") VALUES (?"+
		strings.Repeat(", ?", len(names)-1)+")", values...)
}

// fateColumn is the column of the table cell that counts a fate.
func fateColumn(f ledger.Fate) string { return strings.ReplaceAll(f.String(), " ", "_") }

// fateColumns are all of them.
var fateColumns = func() string {
	var names []string
	for _, f := range ledger.Fates {
		names = append(names, fateColumn(f))
	}
	return strings.Join(names, ", ")
}()

func (w *writer) message(m *ledger.Message, s *run.Snapshot, wrong bool) {
	w.put("message", "number", m.Number, "kind", m.Kind.String(), "audience", m.Audience, "room", m.Room,
		"sender", m.Sender, "due", int64(m.Due), "said", int64(m.Sent), "owed", m.Owed, "reached", m.Reached,
		"late", m.Late, "lost", m.Lost, "odd", m.Odd, "wrong", wrong,
		"nth", m.Nth, "size", m.Size, "traits", m.Traits)
	for i, o := range m.Outcomes {
		w.put("outcome", "message", m.Number, "ord", i, "client", o.Client, "fate", o.Fate.String(),
			"latency", o.Latency.Nanoseconds(), "cause", o.Cause.String())
	}
}

func (w *writer) difference(i int, d *account.Difference) {
	var other any
	if d.IsOther {
		other = int64(d.Of)
	}
	w.put("difference", "ord", i, "name", d.Name, "message", int64(d.Number), "client", d.Client,
		"at", d.At.Nanoseconds(), "first", d.First, "said", blob(d.Said.Head), "said_size", d.Said.Size,
		"said_binary", d.Said.Binary, "came", blob(d.Came.Head), "came_size", d.Came.Size,
		"came_binary", d.Came.Binary, "other", other)
}

// blob is bytes as they are stored: none are not NULL.
func blob(b []byte) []byte {
	if b == nil {
		return []byte{}
	}
	return b
}

func (w *writer) event(i int, e *logbook.Event) {
	var room any
	if e.Room >= 0 {
		room = e.Room
	}
	w.put("event", "ord", i, "at", e.At.Nanoseconds(), "client", e.Client, "what", e.What.String(), "room", room,
		"detail", e.Detail)
}
