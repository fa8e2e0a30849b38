package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/engine"
	"tidepull/internal/engine/account"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
)

// Load reads a run back as the snapshot that it ended with, or that it had
// when it was cut short.
func (s *Store) Load(id int64) (*run.Snapshot, error) { return s.LoadWatched(id, func(float64) {}) }

// LoadWatched is Load, which says from time to time what share of it is done, from 0 to 1.
func (s *Store) LoadWatched(id int64, done func(share float64)) (*run.Snapshot, error) {
	r, err := s.Run(id)
	if err != nil {
		return nil, err
	}
	snap, err := s.load(r, done)
	if err != nil {
		return nil, fmt.Errorf("reading run %d: %w", id, err)
	}
	return snap, nil
}

func (s *Store) load(r Run, share func(float64)) (*run.Snapshot, error) {
	snap := &run.Snapshot{Started: r.Started, Elapsed: r.Elapsed, Finished: true, Stopped: r.State == "stopped" ||
		r.State == "running", Reasons: map[string]int{}}
	var o string
	var happened, server, side, processes []byte
	if err := s.db.QueryRow("SELECT outline, kernel, happened, server, server_side, processes FROM run WHERE id = ?",
		r.ID).Scan(&o,
		&snap.KernelTimes, &happened, &server, &side, &processes); err != nil {
		return nil, err
	}
	if err := errors.Join(json.Unmarshal(happened, &snap.Happened), json.Unmarshal(server, &snap.Server),
		json.Unmarshal(side, &snap.ServerSide), json.Unmarshal(processes, &snap.Processes)); err != nil {
		return nil, fmt.Errorf("what happened to the server: %w", err)
	}
	var err error
	var implied bool
	if snap.Trial, implied, err = readOutline(o); err != nil {
		return nil, err
	}
	// What happened to clients and messages is read beside the seconds, over a connection of its own: it is as much
	// again.
	beside, err := sql.Open("sqlite", s.source+"&_pragma=query_only(1)")
	if err != nil {
		return nil, err
	}
	defer beside.Close()
	other, done := &Store{db: beside, Path: s.Path}, make(chan error, 1)
	var cells [][]logbook.CellTally // by second
	go func() {
		err := other.readCells(r.ID, &cells)
		if err == nil {
			err = readAll(r.ID, snap, other.readNames, other.readMessages, other.readOutcomes, other.readEvents,
				other.readReasons, other.readLanes, other.readBodies, other.readDifferences, other.readFinalResults)
		}
		done <- err
	}()
	part := func(read func(int64, *run.Snapshot, func(int)) error, from, to float64) func(int64, *run.Snapshot) error {
		return func(id int64, snap *run.Snapshot) error {
			return read(id, snap, func(second int) {
				share(from + (to-from)*min(1, float64(second)/max(1, r.Elapsed.Seconds())))
			})
		}
	}
	// The shares are by how long each takes, of an hour of 400 clients; the rest is summing up.
	err = readAll(r.ID, snap, part(s.readSeconds, 0, 0.2), part(s.readLatencies, 0.2, 0.5), part(s.readTimes, 0.5, 0.8))
	if err = errors.Join(err, <-done); err != nil {
		return nil, err
	}
	for at := range min(len(cells), len(snap.Entries)) {
		snap.Entries[at].Cells = cells[at]
	}
	evidence, err := run.Gather(snap.Trial, snap.Entries)
	if err != nil {
		return nil, err
	}
	snap.Total = evidence.Total
	snap.Total.Server = run.UseOf(snap.Server, snap.Entries, r.State != "running")
	evidence.Clean.Server = snap.Total.Server
	limits := snap.Trial.Limits
	if implied {
		limits = run.Limits(snap.Trial)
	}
	snap.Judgements = run.Judge(limits, evidence)
	if len(r.Summary) > 0 {
		var sum run.Summary
		if err := json.Unmarshal(r.Summary, &sum); err != nil {
			return nil, err
		}
		snap.Shared = sum.InCommon
		snap.RSSPerOpen, snap.Unkept, snap.Held = sum.Self.RSSPerClient, sum.Ledger.Unkept, sum.Self.HeldReports
	}
	if r.State == "unreachable" {
		snap.Err = &engine.Unreachable{Words: r.Why}
	}
	return snap, nil
}

// readAll reads parts of a run into its snapshot, one after another.
func readAll(id int64, into *run.Snapshot, parts ...func(int64, *run.Snapshot) error) error {
	for _, read := range parts {
		if err := read(id, into); err != nil {
			return err
		}
	}
	return nil
}

// each calls f with every row of a query.
func (s *Store) each(f func(*sql.Rows) error, query string, args ...any) error {
	rows, err := s.db.Query(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (s *Store) readSeconds(id int64, snap *run.Snapshot, reached func(second int)) error {
	return s.each(func(rows *sql.Rows) error {
		e := &logbook.Entry{}
		var counts, health, fit, checks, own, early, pulse, told []byte
		err := rows.Scan(&e.At, &e.Settled, &e.Gauges.Planned, &e.Gauges.Out, &e.Gauges.Open, &e.Gauges.Entered,
			&counts, &health, &fit, &e.Foreign,
			(*packed)(&e.First), (*packed)(&e.Median), (*packed)(&e.Last), &checks, &own, &early, &pulse, &told)
		var beats struct{ Gap, RoundTrip, Eviction, Told meter.Packed } // as they were kept up to schema 8
		for _, part := range []struct {
			from []byte
			into any
		}{{counts, &e.Counts}, {health, &e.Health}, {fit, &e.Fit}, {checks, &e.Checks}, {own, &e.SentLate},
			{early, &e.Early}, {pulse, &beats},
			{told, &e.Told}} {
			if err == nil {
				err = json.Unmarshal(part.from, part.into)
			}
		}
		e.Times[logbook.BeatInterval], e.Times[logbook.RoundTrip] = beats.Gap, beats.RoundTrip
		e.Times[logbook.ToEvict], e.Times[logbook.ToTell] = beats.Eviction, beats.Told
		if err == nil && e.At != len(snap.Entries) {
			err = fmt.Errorf("second %d is missing", len(snap.Entries))
		}
		reached(e.At)
		snap.Entries = append(snap.Entries, e)
		return err
	}, "SELECT at, settled, planned, out, open, entered, counts, health, fit, foreign_marks, first, median, last, "+
		"checks, own, early, pulse, told FROM second WHERE run = ? ORDER BY at", id)
}

func (s *Store) readTimes(id int64, snap *run.Snapshot, reached func(second int)) error {
	return s.each(func(rows *sql.Rows) error {
		var at int
		var name string
		var histogram meter.Packed
		if err := rows.Scan(&at, &name, (*packed)(&histogram)); err != nil {
			return err
		}
		reached(at)
		if d, known := logbook.DistNamed(name); known && at < len(snap.Entries) {
			snap.Entries[at].Times[d] = histogram
		}
		return nil
	}, "SELECT at, name, histogram FROM times WHERE run = ?", id)
}

func kindOf(name string) ledger.Kind {
	for k := ledger.Kind(0); k < ledger.NumKinds; k++ {
		if k.String() == name {
			return k
		}
	}
	return ledger.Notice
}

// readCells reads what became of the messages of each second. There are many, of many numbers: the database writes
// those of one second as a text, which takes a third of handing over each number by itself.
func (s *Store) readCells(id int64, into *[][]logbook.CellTally) error {
	columns := strings.Split("room, crew, kind, said, owed, maybe_late, overtaken, "+fateColumns, ", ")
	return s.each(func(rows *sql.Rows) error {
		var at int
		var text string
		if err := rows.Scan(&at, &text); err != nil {
			return err
		}
		for at >= 0 && len(*into) <= at {
			*into = append(*into, nil)
		}
		for line := range strings.SplitSeq(text, ",") {
			words := strings.Split(line, " ")
			if len(words) != len(columns) || at < 0 {
				return fmt.Errorf("a row of the table cell cannot be read: %q", plain.Text(line, 80))
			}
			c, err := cellOf(words)
			if err != nil {
				return fmt.Errorf("a row of the table cell cannot be read: %w", err)
			}
			(*into)[at] = append((*into)[at], c)
		}
		return nil
	}, "SELECT at, group_concat("+strings.Join(columns, "||' '||")+") FROM (SELECT * FROM cell WHERE run = ? ORDER BY "+
		"at, room, crew, kind) GROUP BY at", id)
}

// cellOf reads a row of the table cell: its numbers, but for the kind, in the order in which readCells asks for them.
func cellOf(words []string) (c logbook.CellTally, err error) {
	c.Cell.Kind = kindOf(words[2])
	t := &c.Tally
	into := []*int64{&t.Said, &t.Owed, &t.MaybeLate, &t.Overtaken}
	for _, f := range ledger.Fates {
		into = append(into, t.Of(f))
	}
	number := func(word string) (n int64) {
		v, wrong := strconv.ParseInt(word, 10, 64)
		if wrong != nil && err == nil {
			err = wrong
		}
		return v
	}
	c.Cell.Room, c.Cell.Crew = ledger.Room(number(words[0])), uint16(number(words[1]))
	for i := range into {
		*into[i] = number(words[3+i])
	}
	return c, err
}

func (s *Store) readLatencies(id int64, snap *run.Snapshot, reached func(second int)) error {
	return s.each(func(rows *sql.Rows) error {
		var at int
		var l logbook.Series
		if err := rows.Scan(&at, &l.Key.Crew, &l.Key.Class, (*packed)(&l.Latency)); err != nil {
			return err
		}
		reached(at)
		if at < len(snap.Entries) {
			snap.Entries[at].Latency = append(snap.Entries[at].Latency, l)
		}
		return nil
	}, "SELECT at, crew, class, histogram FROM latency WHERE run = ? ORDER BY at, crew, class", id)
}

func (s *Store) readNames(id int64, snap *run.Snapshot) error {
	err := s.each(func(rows *sql.Rows) error {
		var name string
		err := rows.Scan(&name)
		snap.Rooms = append(snap.Rooms, name)
		return err
	}, "SELECT name FROM room WHERE run = ? ORDER BY number", id)
	if err != nil {
		return err
	}
	return s.each(func(rows *sql.Rows) error {
		var name string
		var sent, got uint32
		err := rows.Scan(&name, &sent, &got)
		snap.Names, snap.Sent, snap.Got = append(snap.Names, name), append(snap.Sent, sent), append(snap.Got, got)
		return err
	}, "SELECT name, sent, got FROM client WHERE run = ? ORDER BY number", id)
}

func (s *Store) readMessages(id int64, snap *run.Snapshot) error {
	return s.each(func(rows *sql.Rows) error {
		var m ledger.Message
		var kind string
		var wrong bool
		if err := rows.Scan(&m.Number, &kind, &m.Audience, &m.Room, &m.Sender, (*int64)(&m.Due), (*int64)(&m.Sent),
			&m.Owed, &m.Reached, &m.Late, &m.Lost, &m.Odd, &wrong, &m.Nth, &m.Size, &m.Traits); err != nil {
			return err
		}
		m.Kind = kindOf(kind)
		if wrong {
			snap.Kept = append(snap.Kept, m)
		} else {
			snap.Sampled = append(snap.Sampled, m)
		}
		return nil
	}, "SELECT number, kind, audience, room, sender, due, said, owed, reached, late, lost, odd, wrong, nth, size, "+
		"traits "+
		"FROM message WHERE run = ? ORDER BY number", id)
}

func (s *Store) readOutcomes(id int64, snap *run.Snapshot) error {
	at := map[uint64]*ledger.Message{}
	for _, list := range [][]ledger.Message{snap.Kept, snap.Sampled} {
		for i := range list {
			at[list[i].Number] = &list[i]
		}
	}
	return s.each(func(rows *sql.Rows) error {
		var number uint64
		var o ledger.Outcome
		var fate, cause string
		if err := rows.Scan(&number, &o.Client, &fate, (*int64)(&o.Latency), &cause); err != nil {
			return err
		}
		o.Fate, o.Cause = fateOf(fate), excuse.Named(cause)
		if m := at[number]; m != nil {
			m.Outcomes = append(m.Outcomes, o)
		}
		return nil
	}, "SELECT message, client, fate, latency, cause FROM outcome WHERE run = ? ORDER BY message, ord", id)
}

func (s *Store) readEvents(id int64, snap *run.Snapshot) error {
	return s.each(func(rows *sql.Rows) error {
		e := logbook.Event{Room: -1}
		var what string
		var room sql.NullInt32
		if err := rows.Scan((*int64)(&e.At), &e.Client, &what, &room, &e.Detail); err != nil {
			return err
		}
		if room.Valid {
			e.Room = room.Int32
		}
		e.What = logbook.WhatNamed(what)
		snap.Events = append(snap.Events, e)
		return nil
	}, "SELECT at, client, what, room, detail FROM event WHERE run = ? ORDER BY ord", id)
}

func fateOf(name string) ledger.Fate {
	for f := ledger.Fate(0); f < ledger.NumFates; f++ {
		if f.String() == name {
			return f
		}
	}
	return ledger.Foreign
}

func (s *Store) readLanes(id int64, snap *run.Snapshot) error {
	return s.each(func(rows *sql.Rows) error {
		var r lane.Record
		var what, fate, kind string
		var number int64
		err := rows.Scan((*int64)(&r.At), &r.Client, &what, &number, &r.Peer, &r.Room, &r.Size, &fate, &kind,
			(*int64)(&r.Took))
		r.Number = uint64(number)
		r.What, r.Fate, r.Kind = lane.WhatNamed(what), fateOf(fate), kindOf(kind)
		snap.Lanes = append(snap.Lanes, r)
		return err
	}, "SELECT at, client, what, number, peer, room, size, fate, kind, took FROM lane WHERE run = ? ORDER BY ord", id)
}

func (s *Store) readBodies(id int64, snap *run.Snapshot) error {
	return s.each(func(rows *sql.Rows) error {
		var b lane.Body
		var number int64
		err := rows.Scan(&number, &b.Text, &b.Cut)
		b.Number = uint64(number)
		snap.Bodies = append(snap.Bodies, b)
		return err
	}, "SELECT message, text, cut FROM body WHERE run = ? ORDER BY message", id)
}

func (s *Store) readDifferences(id int64, snap *run.Snapshot) error {
	return s.each(func(rows *sql.Rows) error {
		var d account.Difference
		var number int64
		var other sql.NullInt64
		err := rows.Scan(&d.Name, &number, &d.Client, (*int64)(&d.At), &d.First, &d.Said.Head, &d.Said.Size,
			&d.Said.Binary, &d.Came.Head, &d.Came.Size, &d.Came.Binary, &other)
		d.Number, d.Of, d.IsOther = uint64(number), uint64(other.Int64), other.Valid
		snap.Differences = append(snap.Differences, d)
		return err
	}, "SELECT name, message, client, at, first, said, said_size, said_binary, came, came_size, came_binary, other "+
		"FROM difference WHERE run = ? ORDER BY ord", id)
}

func (s *Store) readFinalResults(id int64, snap *run.Snapshot) error {
	return s.each(func(rows *sql.Rows) error {
		var r run.FinalResult
		err := rows.Scan(&r.Name, (*string)(&r.Verdict), &r.Why)
		snap.FinalResults = append(snap.FinalResults, r)
		return err
	}, "SELECT name, verdict, why FROM final_check WHERE run = ? ORDER BY ord", id)
}

func (s *Store) readReasons(id int64, snap *run.Snapshot) error {
	return s.each(func(rows *sql.Rows) error {
		var text string
		var n int
		err := rows.Scan(&text, &n)
		snap.Reasons[text] = n
		return err
	}, "SELECT text, times FROM reason WHERE run = ?", id)
}
