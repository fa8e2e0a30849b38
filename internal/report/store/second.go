package store

import (
	"bytes"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// written is what the rows of a second that was not settled are like. A second is looked at until its last message's
// grace time is over, but most of it stands after an instant: what is the same is not written again.
type written struct {
	cells     map[ledger.Cell]ledger.Tally
	latencies map[logbook.SeriesKey]meter.Packed
	times     [logbook.NumDists]meter.Packed
}

// second writes a second over what was written of it before; nil: nothing was, or it is not known what.
func (w *writer) second(e *logbook.Entry, before *written) *written {
	g := e.Gauges
	w.put("second", "at", e.At, "settled", e.Settled, "planned", g.Planned, "out", g.Out, "open", g.Open,
		"entered", g.Entered, "sent", e.Counts.Sent, "arrivals", e.Counts.Arrivals, "overload", e.Health.Overload,
		"counts", w.sparse(e.Counts), "health", w.sparse(e.Health), "fit", w.json(e.Fit), "foreign_marks", e.Foreign,
		"first", pack(e.First), "median", pack(e.Median), "last", pack(e.Last), "checks", w.json(e.Checks),
		"own", w.json(e.SentLate), "early", w.json(e.Early), "told", w.json(e.Told), "merged", e.Merged,
		"merged_overloaded", e.MergedOverloaded)
	if before == nil {
		before = &written{}
		w.exec("DELETE FROM cell WHERE run = ? AND at = ?", w.run, e.At)
	}
	now := &written{cells: make(map[ledger.Cell]ledger.Tally, len(e.Cells)), times: e.Times,
		latencies: make(map[logbook.SeriesKey]meter.Packed, len(e.Latency))}
	for d, h := range e.Times {
		if len(h) > 0 && !bytes.Equal(h, before.times[d]) {
			w.put("times", "at", e.At, "name", logbook.Dist(d).String(), "histogram", pack(h))
		}
	}
	for i := range e.Cells {
		c := &e.Cells[i]
		now.cells[c.Cell] = c.Tally
		if t, is := before.cells[c.Cell]; !is || t != c.Tally {
			w.cell(e.At, c)
		}
	}
	for c := range before.cells {
		if _, is := now.cells[c]; !is { // it was taken back
			w.exec("DELETE FROM cell WHERE run = ? AND at = ? AND room = ? AND crew = ? AND kind = ?", w.run, e.At,
				c.Room,
				c.Crew, c.Kind.String())
		}
	}
	for _, l := range e.Latency {
		now.latencies[l.Key] = l.Latency
		if !bytes.Equal(l.Latency, before.latencies[l.Key]) {
			w.put("latency", "at", e.At, "crew", l.Key.Crew, "class", l.Key.Class, "histogram", pack(l.Latency))
		}
	}
	return now
}

func (w *writer) cell(at int, c *logbook.CellTally) {
	t := &c.Tally
	row := []any{"at", at, "room", c.Cell.Room, "crew", c.Cell.Crew, "kind", c.Cell.Kind.String(),
		"said", t.Said, "owed", t.Owed, "maybe_late", t.MaybeLate, "overtaken", t.Overtaken}
	for _, f := range ledger.Fates {
		row = append(row, fateColumn(f), *t.Of(f))
	}
	w.put("cell", row...)
}
