package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"tidepull/internal/engine"
	"tidepull/internal/engine/account"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
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
	limits := snap.Trial.Limits
	if implied {
		limits = run.Limits(snap.Trial)
	}
	past := run.NewPast(limits, snap.Trial.Grace)
	past.Happened = snap.Happened
	if err := s.readPast(r, snap, past, share); err != nil {
		return nil, err
	}
	snap.Entries = past.Seconds
	evidence := past.Evidence()
	evidence.Apart = snap.Processes.Apart()
	snap.Total = evidence.Total
	snap.Total.Server = run.UseOf(snap.Server, snap.Entries, r.State != "running")
	evidence.Clean.Server = snap.Total.Server
	snap.Judgements = run.Judge(limits, evidence)
	if len(r.Summary) > 0 {
		var sum run.Summary
		if err := json.Unmarshal(r.Summary, &sum); err != nil {
			return nil, err
		}
		snap.Shared, snap.Findings = sum.InCommon, sum.Findings
		asJudged(snap, &sum)
		snap.RSSPerOpen, snap.Unkept, snap.Held = sum.Self.RSSPerClient, sum.Ledger.Unkept, sum.Self.HeldReports
	}
	if r.State == "unreachable" {
		snap.Err = &engine.Unreachable{Words: r.Why}
	}
	return snap, nil
}

// asJudged gives the judgements of a run so long that its older seconds are merged: they were made by single seconds.
func asJudged(snap *run.Snapshot, sum *run.Summary) {
	if len(snap.Entries) == 0 || !slices.ContainsFunc(snap.Entries,
		func(e *logbook.Entry) bool { return e.Merged > 0 }) {
		return
	}
	for i := range snap.Judgements {
		j := &snap.Judgements[i]
		for _, l := range sum.Limits {
			if l.Name == j.Limit.Name && l.Figure == j.Limit.Figure {
				j.Measured, j.Early, j.Verdict, j.Why, j.Without = l.Measured, l.Early, l.Verdict, l.Why, l.Without
			}
		}
	}
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
