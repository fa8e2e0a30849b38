package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// asKept writes a second as it stands in a store: there, cells are in the order of rooms, live in that of first use,
// and an empty histogram is none.
func asKept(t *testing.T, e *logbook.Entry) string {
	t.Helper()
	whole, err := e.Whole()
	if err != nil {
		t.Fatal(err)
	}
	one := *whole
	one.Cells = slices.SortedFunc(slices.Values(whole.Cells), func(a, b logbook.CellTally) int {
		return strings.Compare(fmt.Sprint(a.Cell), fmt.Sprint(b.Cell))
	})
	text, err := json.Marshal(&one)
	if err != nil {
		t.Fatal(err)
	}
	return strings.ReplaceAll(string(text), `""`, "null")
}

const source = `
trial "kept tide" {
  prompt = "2s"
  grace  = "2s"
}
target "board" {}
session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  repeat {
    every = "200ms"
    say { body = { kind = "notice", room = room, text = "berth ${mark}" } }
  }
}
crew "pilots" {
  clients = 20
  session = session.watch
}
crew "tugs" {
  clients = 10
  session = session.watch
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "LASTS" }
}
limit "none lost" {
  of     = ledger.lost
  equals = 0
}
limit "prompt" {
  of    = fanout.p99
  below = "1us"
}`

func startRun(t *testing.T, lasts string) *run.Run {
	t.Helper()
	s, err := standin.Start(standin.Config{Switches: board.Switches{Seed: 4, Lose: 0.02, Double: 0.02}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	tr, err := language.Parse([]byte(strings.Replace(source, "LASTS", lasts, 1)), "t.trial.hcl",
		language.Options{Target: s.URL()})
	if err != nil {
		t.Fatal(err)
	}
	r, err := run.Start(context.Background(), run.Options{Trial: tr})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func openStore(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// TestSameFiguresAsLive keeps a run and reads it back: everything that a view
// or an export looks at is the same.
func TestSameFiguresAsLive(t *testing.T) {
	t.Parallel()
	s := openStore(t, filepath.Join(t.TempDir(), "new folder", "runs?.db"))
	r := startRun(t, "4s")
	k := s.Keep(r, "test")
	live := r.Wait()
	k.Wait()
	if k.Trouble() != "" || k.ID() != 1 {
		t.Fatalf("run %d: %s", k.ID(), k.Trouble())
	}
	kept, err := s.Load(k.ID())
	if err != nil {
		t.Fatal(err)
	}
	a, b := run.Summarise(live), run.Summarise(kept)
	b.Started = a.Started // in whole microseconds
	if !reflect.DeepEqual(a, b) {
		x, _ := json.Marshal(a)
		y, _ := json.Marshal(b)
		t.Errorf("live\n%s\nkept\n%s", x, y)
	}
	if !reflect.DeepEqual(live.Lanes, kept.Lanes) || len(live.Lanes) < 100 || len(live.Bodies) == 0 ||
		len(live.Bodies) != len(kept.Bodies) {
		t.Errorf("live there are %d records in lanes and %d bodies, kept %d and %d", len(live.Lanes), len(live.Bodies),
			len(kept.Lanes), len(kept.Bodies))
	}
	if a.Ledger.Lost == 0 || a.Ledger.Duplicate == 0 || len(kept.Events) < 60 || a.Verdict != run.Broken {
		t.Errorf("the run shows too little: %+v, %d events", a.Ledger.Tally, len(kept.Events))
	}
	if !reflect.DeepEqual(live.Events, kept.Events) || !reflect.DeepEqual(live.Names, kept.Names) ||
		!reflect.DeepEqual(live.Rooms, kept.Rooms) || !reflect.DeepEqual(live.Got, kept.Got) {
		t.Error("events, names, rooms or traffic differ")
	}
	if len(live.Entries) != len(kept.Entries) {
		t.Fatalf("%d seconds, %d kept", len(live.Entries), len(kept.Entries))
	}
	for i := range live.Entries {
		if x, y := asKept(t, live.Entries[i]), asKept(t, kept.Entries[i]); x != y {
			t.Errorf("second %d: live\n%s\nkept\n%s", i, x, y)
		}
	}
	if len(live.Kept) == 0 || len(live.Kept) != len(kept.Kept) {
		t.Fatalf("%d messages, %d kept", len(live.Kept), len(kept.Kept))
	}
	for i := range live.Kept {
		if m := live.Kept[i]; !reflect.DeepEqual(m, kept.Kept[i]) {
			t.Errorf("message %d: live\n%+v\nkept\n%+v", m.Number, m, kept.Kept[i])
		}
	}
}

// TestDocumentedQuery: the query in docs/store.md finds everything, what the tool itself sent late too, and
// what was taken back is not there any more.
func TestDocumentedQuery(t *testing.T) {
	doc, err := os.ReadFile("../../../docs/store.md")
	if err != nil {
		t.Fatal(err)
	}
	_, query, found := strings.Cut(string(doc), `sqlite3 runs.db "`)
	if query, _, _ = strings.Cut(query, `"`); !found {
		t.Fatal("docs/store.md has no query")
	}
	s := openStore(t, filepath.Join(t.TempDir(), "runs.db"))
	if err := s.Insert(Run{Trial: "t"}); err != nil {
		t.Fatal(err)
	}
	cell := func(room, owed, lost int) logbook.CellTally {
		return logbook.CellTally{Cell: ledger.Cell{Room: ledger.Room(room)}, Tally: ledger.Tally{Owed: int64(owed),
			Lost: int64(lost)}}
	}
	e := &logbook.Entry{At: 3, SentLate: &logbook.Part{Cells: []logbook.CellTally{cell(1, 700, 690)}}}
	var before *written
	for i, cells := range [][]logbook.CellTally{{cell(1, 10, 1), cell(2, 5, 0)}, {cell(1, 10, 3), cell(3, 1, 1)},
		{cell(1, 10, 3), cell(4, 9, 9)}, {cell(1, 10, 2)}} {
		e.Cells = cells
		if i == 2 {
			before = nil // what was written is not known
		}
		if err := s.transaction(func(tx *sql.Tx) error {
			w := newWriter(tx, 1)
			before = w.second(e, before)
			return w.err
		}); err != nil {
			t.Fatal(err)
		}
	}
	var at, owed, lost int
	if err := s.db.QueryRow(query).Scan(&at, &owed, &lost); err != nil || at != 3 || owed != 710 || lost != 692 {
		t.Errorf("%s: second %d, %d owed, %d lost; %v", query, at, owed, lost, err)
	}
}

// TestKilled kills a process that keeps a run with -9: the run is there, up to
// its last second, and marked as cut short.
func TestKilled(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "runs.db")
	if p := os.Getenv("KEEP_UNTIL_KILLED"); p != "" {
		r := startRun(t, "5m")
		openStore(t, p).Keep(r, "test")
		time.Sleep(time.Minute)
		return
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^TestKilled$")
	cmd.Env = append(os.Environ(), "KEEP_UNTIL_KILLED="+path)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	enough := func() bool { // a machine that is busy takes longer to get there
		s, err := Open(path)
		if err != nil {
			return false
		}
		defer s.Close()
		kept, err := s.Load(1)
		return err == nil && len(kept.Entries) >= 4 && kept.Elapsed >= 3*time.Second && kept.Total.Total.Lost > 0
	}
	for end := time.Now().Add(time.Minute); !enough() && time.Now().Before(end); {
		time.Sleep(300 * time.Millisecond)
	}
	cmd.Process.Kill()
	cmd.Wait()
	s := openStore(t, path)
	kept, err := s.Load(1)
	if err != nil {
		t.Fatal(err)
	}
	if n := len(kept.Entries); n < 3 || kept.Elapsed < 3*time.Second || kept.Total.Counts.Sent == 0 ||
		kept.Total.Total.Lost == 0 {
		t.Errorf("%d seconds, elapsed %v, ledger %+v", n, kept.Elapsed, kept.Total.Total)
	}
	r, err := s.Run(1)
	if err != nil {
		t.Fatal(err)
	}
	r.Started = r.Started.Add(-staleAfter) // as it will be in a few seconds
	if !r.CutShort() || !kept.Stopped {
		t.Errorf("%+v is not marked as cut short", r)
	}
}

// TestTrouble: a store that is locked, or cannot be written, neither stops the
// run nor goes unsaid; once it is free the run is kept whole.
func TestTrouble(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "runs.db")
	s := openStore(t, path)
	s.db.Exec("PRAGMA busy_timeout = 50")
	other, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	other.SetMaxOpenConns(1)
	if _, err := other.Exec("BEGIN EXCLUSIVE"); err != nil {
		t.Fatal(err)
	}
	r := startRun(t, "5s")
	k := s.Keep(r, "test")
	for end := time.Now().Add(10 * time.Second); k.Trouble() == ""; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nothing is said of the lock")
		}
	}
	if !strings.Contains(k.Trouble(), "is not being kept") || !strings.Contains(k.Trouble(), "locked") {
		t.Errorf("it says %q", k.Trouble())
	}
	if _, err := other.Exec("ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	live := r.Wait()
	k.Wait()
	kept, err := s.Load(1)
	if err != nil || k.Trouble() != "" {
		t.Fatal(err, k.Trouble())
	}
	if live.Err != nil || kept.Total.Total != live.Total.Total {
		t.Errorf("live %+v\nkept %+v", live.Total.Total, kept.Total.Total)
	}
}

func TestList(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "runs.db"))
	for i := range 3 {
		if _, err := s.db.Exec("INSERT INTO run (trial, target, clients, started, tool, outline, kernel) VALUES "+
			"('t', 'ws://x', 1, ?, 'x', '{}', 1)", i); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.db.Exec("INSERT INTO reason VALUES (2, 'why', 1)"); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.Rename(2, "before"), s.Annotate(2, "the old build"), s.Delete(1), s.Delete(3)); err != nil {
		t.Fatal(err)
	}
	runs, err := s.Runs()
	if err != nil || len(runs) != 1 || runs[0].Title() != "before" || runs[0].Note != "the old build" {
		t.Fatalf("%+v, %v", runs, err)
	}
	if err := s.Delete(2); err != nil {
		t.Fatal(err)
	}
	var left int
	if err := s.db.QueryRow("SELECT count(*) FROM reason").Scan(&left); err != nil || left != 0 {
		t.Errorf("%d rows of a deleted run are left, %v", left, err)
	}
	for _, err := range []error{s.Rename(9, "x"), s.Delete(9), func() error { _, err := s.Load(9); return err }()} {
		if !errors.Is(err, ErrNoRun) {
			t.Errorf("a run that is not there: %v", err)
		}
	}
}

// TestMigration: an empty file is brought to the newest schema, and a store of
// the future is refused.
func TestMigration(t *testing.T) {
	path := filepath.Join(t.TempDir(), "runs.db")
	openStore(t, path).Close()
	s := openStore(t, path) // a second time changes nothing
	var version int
	if err := s.db.QueryRow("PRAGMA user_version").Scan(&version); err != nil || version != len(migrations) {
		t.Errorf("version %d, %v", version, err)
	}
	if _, err := s.db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	var tooNew *TooNew
	if _, err := Open(path); !errors.As(err, &tooNew) || tooNew.Version != 99 {
		t.Errorf("a store of the future: %v", err)
	}
	if err := os.WriteFile(path, []byte("this is no database, but long enough to look at"), 0o600); err != nil {
		t.Fatal(err)
	}
	os.Remove(path + "-wal")
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), path) {
		t.Errorf("no database: %v", err)
	}
}

// TestFullDisk: a store that has no room left does not stop the run; it is
// said, and what was written before stays readable.
func TestFullDisk(t *testing.T) {
	s := openStore(t, filepath.Join(t.TempDir(), "runs.db"))
	var pages int
	if err := s.db.QueryRow("PRAGMA page_count").Scan(&pages); err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec("PRAGMA max_page_count = " + strconv.Itoa(pages+6)); err != nil {
		t.Fatal(err)
	}
	r := startRun(t, "4s")
	k := s.Keep(r, "test")
	live := r.Wait()
	k.Wait()
	if !strings.Contains(k.Trouble(), "full") {
		t.Errorf("of the full disk it says %q", k.Trouble())
	}
	if live.Err != nil || live.Total.Total.Owed == 0 || live.Total.Imbalance() != "" {
		t.Errorf("the run was disturbed: %v, %+v", live.Err, live.Total.Total)
	}
	if _, err := s.Runs(); err != nil {
		t.Errorf("the store cannot be read any more: %v", err)
	}
}

// TestFirstSchema: a store as the first version left it is brought up to date,
// and its run is read as it was.
func TestFirstSchema(t *testing.T) {
	path := filepath.Join(t.TempDir(), "runs.db")
	old, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	var h meter.Hist
	h.Record(3 * time.Millisecond)
	for _, q := range []struct {
		query string
		args  []any
	}{
		{migrations[0], nil}, {"PRAGMA user_version = 1", nil},
		{`INSERT INTO run (trial, target, clients, started, state, verdict, tool, outline, kernel, summary) VALU` +
			`ES ('old', 'ws://x', 2, 5, 'finished', 'holds', '0.0', '{"name":"old","crews":[{"name":"pilots","cl` +
			`ients":2}],"tide":[{"Word":"flood","To":1,"Over":1000000000}]}', 1, '')`, nil},
		{"INSERT INTO room VALUES (1, 0, '(everyone)'), (1, 1, 'lock-1')", nil},
		{"INSERT INTO client VALUES (1, 0, 'pilots', 'Alder', 3, 4), (1, 1, 'pilots', 'Birch', 0, 1)", nil},
		{`INSERT INTO second VALUES (1, 0, 1, 2, 2, 2, 2, 3, 4, 0, '{"Started":2,"Opened":2,"Sent":3,"Marked":4}` +
			`', '{}', '{}', 0, ?, ?, ?, ?, ?, ?, ?)`,
			[]any{[]byte(h.Pack()), []byte(h.Pack()), []byte(h.Pack()), nil, nil, nil, nil}},
		{"INSERT INTO cell VALUES (1, 0, 1, 0, 'notice', 3, 4, 3, 0, 1, 0, 0, 0, 0, 0, 0)", nil},
		{"INSERT INTO latency VALUES (1, 0, 0, 2, ?)", []any{[]byte(h.Pack())}},
		{"INSERT INTO message VALUES (1, 2, 'notice', 0, 1, 0, 10, 11, 2, 1, 0, 1, 0, 1)", nil},
		{"INSERT INTO outcome VALUES (1, 2, 0, 1, 'lost', 0)", nil},
		{"INSERT INTO event VALUES (1, 0, 99, 1, 'broke', NULL, 'the cable')", nil},
		{"INSERT INTO reason VALUES (1, 'broken: the cable', 1)", nil},
	} {
		if _, err := old.Exec(q.query, q.args...); err != nil {
			t.Fatalf("%.60s: %v", q.query, err)
		}
	}
	old.Close()
	s := openStore(t, path)
	snap, err := s.Load(1)
	if err != nil {
		t.Fatal(err)
	}
	w := snap.Total
	if w.Total.Owed != 4 || w.Total.Lost != 1 || w.Total.Altered != 0 || w.Counts.Sent != 3 || len(w.Checks) != 0 ||
		w.First.Count() != 1 || w.Times[logbook.FeedAge].Count() != 0 {
		t.Errorf("%+v %+v, %d", w.Total, w.Counts, w.First.Count())
	}
	if len(snap.Kept) != 1 || snap.Kept[0].Outcomes[0].Fate != ledger.Lost || snap.ClientName(1) != "Birch" ||
		snap.Events[0].What != logbook.Broke || len(snap.Lanes)+len(snap.Bodies)+len(snap.FinalResults) != 0 {
		t.Errorf("%+v %+v", snap.Kept, snap.Events)
	}
	if snap.Trial.TideOf(0).Length() != time.Second || snap.Overall() != run.Holds {
		t.Errorf("%v, %s", snap.Trial.TideOf(0), snap.Overall())
	}
}

// TestMadeTogether: several processes may make one store at the same moment.
func TestMadeTogether(t *testing.T) {
	t.Parallel()
	for range 8 {
		path := filepath.Join(t.TempDir(), "runs.db")
		failed := make(chan error, 8)
		for range cap(failed) {
			go func() {
				s, err := Open(path)
				if err == nil {
					err = s.Close()
				}
				failed <- err
			}()
		}
		for range cap(failed) {
			if err := <-failed; err != nil {
				t.Error(err)
			}
		}
	}
}
