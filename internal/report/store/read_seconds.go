package store

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
)

// A stretch is some seconds of a run, which are read at a time: a run of a day does not fit into memory by the second.
type stretch struct{ id, from, to int64 }

// stretchSeconds is how long one is.
const stretchSeconds = 120

// readPast reads the seconds of a run, adds them to its past, and reads all else beside: it is as much again. What
// there is of messages in the seconds is read over that second connection, too.
func (s *Store) readPast(r Run, snap *run.Snapshot, past *run.Past, share func(float64)) error {
	var seconds int64
	if err := s.db.QueryRow("SELECT coalesce(max(at) + 1, 0) FROM second WHERE run = ?",
		r.ID).Scan(&seconds); err != nil {
		return err
	}
	beside, err := sql.Open("sqlite", s.source+"&_pragma=query_only(1)")
	if err != nil {
		return err
	}
	defer beside.Close()
	other := &Store{db: beside, Path: s.Path}
	type read struct {
		cells [][]logbook.CellTally
		err   error
	}
	cells, rest, over := make(chan read, 1), make(chan error, 1), make(chan struct{})
	defer close(over)
	go func() {
		for from := int64(0); from < seconds; from += stretchSeconds {
			var next read
			next.cells, next.err = other.readCells(stretch{r.ID, from, from + stretchSeconds})
			select {
			case cells <- next:
			case <-over:
				return
			}
		}
		rest <- other.readRest(r.ID, snap)
	}()
	var pending []*logbook.Entry // that are to be added once it is known what came after them
	for from := int64(0); from < seconds; from += stretchSeconds {
		in := stretch{r.ID, from, from + stretchSeconds}
		entries, err := s.readSeconds(in)
		if err == nil {
			err = s.readTimes(in, entries)
		}
		if err == nil {
			err = s.readLatencies(in, entries)
		}
		if err != nil {
			return err
		}
		messages := <-cells
		if messages.err != nil {
			return messages.err
		}
		for _, e := range entries {
			e.Cells = messages.cells[int64(e.At)-from]
		}
		pending = append(pending, entries...)
		n := len(pending)
		if in.to < seconds {
			n = max(0, n-past.Behind())
		}
		if err := past.Add(pending[:n:n], pending[n:]); err != nil {
			return err
		}
		pending = pending[n:]
		share(min(1, float64(in.to)/float64(seconds)))
	}
	return <-rest
}

// readRest reads what a run has beside its seconds.
func (s *Store) readRest(id int64, into *run.Snapshot) error {
	for _, read := range []func(int64, *run.Snapshot) error{s.readNames, s.readMessages, s.readOutcomes, s.readEvents,
		s.readReasons, s.readLanes, s.readBodies, s.readDifferences, s.readFinalResults} {
		if err := read(id, into); err != nil {
			return err
		}
	}
	return nil
}

// eachIn calls f with every row of a query over a stretch.
func (s *Store) eachIn(in stretch, f func(*sql.Rows) error, columns, table, order string) error {
	return s.each(f, "SELECT "+columns+" FROM "+table+" WHERE run = ? AND at >= ? AND at < ?"+order, in.id,
		in.from, in.to)
}

func (s *Store) readSeconds(in stretch) (entries []*logbook.Entry, err error) {
	return entries, s.eachIn(in, func(rows *sql.Rows) error {
		e := &logbook.Entry{}
		var counts, health, fit, checks, own, early, pulse, told []byte
		err := rows.Scan(&e.At, &e.Settled, &e.Gauges.Planned, &e.Gauges.Out, &e.Gauges.Open, &e.Gauges.Entered,
			&counts, &health, &fit, &e.Foreign,
			(*packed)(&e.First), (*packed)(&e.Median), (*packed)(&e.Last), &checks, &own, &early, &pulse, &told,
			&e.Merged, &e.MergedOverloaded)
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
		next := int(in.from)
		if n := len(entries); n > 0 {
			next = entries[n-1].At + entries[n-1].Seconds()
		}
		if err == nil && e.At != next {
			err = fmt.Errorf("second %d is missing", next)
		}
		entries = append(entries, e)
		return err
	}, "at, settled, planned, out, open, entered, counts, health, fit, foreign_marks, first, median, last, "+
		"checks, own, early, pulse, told, merged, merged_overloaded", "second", " ORDER BY at")
}

// of gives the entry of a second; nil if it is not among them.
func (in stretch) of(entries []*logbook.Entry, at int64) *logbook.Entry {
	i, found := slices.BinarySearchFunc(entries, int(at), func(e *logbook.Entry, at int) int { return e.At - at })
	if !found {
		return nil
	}
	return entries[i]
}

func (s *Store) readTimes(in stretch, into []*logbook.Entry) error {
	return s.eachIn(in, func(rows *sql.Rows) error {
		var at int64
		var name string
		var histogram meter.Packed
		if err := rows.Scan(&at, &name, (*packed)(&histogram)); err != nil {
			return err
		}
		if e := in.of(into, at); e != nil {
			if d, known := logbook.DistNamed(name); known {
				e.Times[d] = histogram
			}
		}
		return nil
	}, "at, name, histogram", "times", "")
}

func (s *Store) readLatencies(in stretch, into []*logbook.Entry) error {
	return s.eachIn(in, func(rows *sql.Rows) error {
		var at int64
		var l logbook.Series
		if err := rows.Scan(&at, &l.Key.Crew, &l.Key.Class, (*packed)(&l.Latency)); err != nil {
			return err
		}
		if e := in.of(into, at); e != nil {
			e.Latency = append(e.Latency, l)
		}
		return nil
	}, "at, crew, class, histogram", "latency", " ORDER BY at, crew, class")
}

func kindOf(name string) ledger.Kind {
	for k := ledger.Kind(0); k < ledger.NumKinds; k++ {
		if k.String() == name {
			return k
		}
	}
	return ledger.Notice
}

// readCells reads what became of the messages of each second of a stretch. There are many, of many numbers: the
// database writes those of one second as a text, which takes a third of handing over each number by itself.
func (s *Store) readCells(in stretch) (all [][]logbook.CellTally, err error) {
	columns := strings.Split("room, crew, kind, said, owed, maybe_late, overtaken, "+fateColumns, ", ")
	all = make([][]logbook.CellTally, in.to-in.from)
	return all, s.each(func(rows *sql.Rows) error {
		var at int64
		var text string
		if err := rows.Scan(&at, &text); err != nil {
			return err
		}
		into := &all[at-in.from]
		for line := range strings.SplitSeq(text, ",") {
			words := strings.Split(line, " ")
			if len(words) != len(columns) {
				return fmt.Errorf("a row of the table cell cannot be read: %q", plain.Text(line, 80))
			}
			c, err := cellOf(words)
			if err != nil {
				return fmt.Errorf("a row of the table cell cannot be read: %w", err)
			}
			*into = append(*into, c)
		}
		return nil
	}, "SELECT at, group_concat("+strings.Join(columns, "||' '||")+") FROM (SELECT * FROM cell WHERE run = ? AND "+
		"at >= ? AND at < ? ORDER BY at, room, crew, kind) GROUP BY at", in.id, in.from, in.to)
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
