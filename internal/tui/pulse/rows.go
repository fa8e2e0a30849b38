package pulse

import (
	"slices"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/tide"
)

// A Model keeps what the rows are drawn of: records come over time, and there may be very
// many.
type Model struct {
	of   *run.Snapshot
	read int            // records that were looked at
	seen int            // events that were
	did  map[string]int // clients that misbehave, by how
	rows []row
	at   map[ledger.Client]int // of rows
}

// A row is what is known of one client's heartbeats.
type row struct {
	client ledger.Client
	given  []time.Duration
	owed   []time.Duration
	lives  []span
	began  time.Duration // when it began to misbehave; 0: it did not
	ended  time.Duration // when its connection broke, or was closed by the server; 0: not
}

// A span is a connection, from when it opened to when it ended; To is 0 while it goes on.
type span struct{ from, to time.Duration }

// follow takes in the records and events that are new.
func (m *Model) follow(s *run.Snapshot) {
	if m.at == nil || len(s.Lanes) < m.read || len(s.Events) < m.seen || m.of != nil && m.of.Started != s.Started {
		*m = Model{at: map[ledger.Client]int{}, did: map[string]int{}}
	}
	m.of = s
	for i := m.read; i < len(s.Lanes); i++ {
		m.take(&s.Lanes[i])
	}
	m.read = len(s.Lanes)
	for i := m.seen; i < len(s.Events); i++ {
		if e := &s.Events[i]; e.What == logbook.Misbehaved {
			m.did[e.Detail]++
		}
	}
	m.seen = len(s.Events)
}

// take books what a lane says of a client's heartbeats, connections and misconduct.
func (m *Model) take(r *lane.Record) {
	switch r.What {
	case lane.Beat, lane.Ignored, lane.Misbehaved, lane.Evicted, lane.Broke, lane.Opened, lane.Closed:
	default:
		return
	}
	i, known := m.at[r.Client]
	if !known {
		i = len(m.rows)
		m.at[r.Client] = i
		m.rows = append(m.rows, row{client: r.Client})
	}
	w := &m.rows[i]
	switch r.What {
	case lane.Beat:
		w.given = append(w.given, r.At)
	case lane.Ignored:
		w.owed = append(w.owed, r.At)
	case lane.Misbehaved:
		w.began = r.At
	case lane.Opened:
		w.lives = append(w.lives, span{from: r.At})
	default:
		if n := len(w.lives); n > 0 && w.lives[n-1].to == 0 {
			w.lives[n-1].to = r.At
		}
		if r.What != lane.Closed {
			w.ended = r.At
		}
	}
}

// drawn picks the rows for so many lines: those that misbehave and those that do not, about
// half of each.
func (m *Model) drawn(most int) []*row {
	var bad, good []*row
	for i := range m.rows {
		switch w := &m.rows[i]; {
		case len(w.lives) == 0: // its life is not kept from the beginning on
		case w.began != 0:
			bad = append(bad, w)
		case len(w.given) > 0:
			good = append(good, w)
		}
	}
	n := min(len(good), max(most/2, most-len(bad)))
	all := append(good[:n:n], bad[:min(len(bad), most-n)]...)
	slices.SortFunc(all, func(a, b *row) int { return int(a.client - b.client) })
	return all
}

// draw draws the heartbeats of some clients, below the tide.
func (m *Model) draw(sc scene.Scene, height int) []string {
	p := sc.Palette
	lines := []string{p.Rule("heartbeats of some clients", p.Draw(look.Faint, "whole run"), sc.Width)}
	all := m.drawn(height - 1)
	if len(all) == 0 {
		return append(lines, look.Right("", look.Gutter)+p.Draw(look.Faint, "no heartbeat has come or gone yet"))
	}
	scale := tide.NewScale(sc.Run, sc.Width)
	for _, w := range all {
		lines = append(lines, p.Draw(look.Faint, look.Right(short(sc.Run.ClientName(w.client)), look.Gutter-1))+" "+
			w.line(p, scale, sc.Run.Elapsed))
	}
	return lines
}

// short is a client's name as there is room for it: its end tells it from others.
func short(name string) string {
	name = plain.Text(name, 100)
	if over := ansi.StringWidth(name) - (look.Gutter - 1); over > 0 {
		return "…" + ansi.TruncateLeft(name, over+1, "")
	}
	return name
}

// line draws a client's connections, its heartbeats on them, and what ended them.
func (w *row) line(p *look.Palette, scale tide.Scale, now time.Duration) string {
	d := look.NewDots(scale.Width, 1)
	dot := func(at time.Duration) int { return scale.Dot(at.Seconds()) }
	for _, life := range w.lives {
		to := life.to
		if to == 0 {
			to = now
		}
		for x := dot(life.from); x <= dot(to); x++ {
			d.Dot(x, 3, look.Deep)
		}
	}
	for _, at := range w.given {
		for y := range 3 {
			d.Dot(dot(at), y, look.Water)
		}
	}
	for _, at := range w.owed {
		d.Dot(dot(at), 1, look.Beware)
	}
	if w.began != 0 {
		d.Char(dot(w.began)/2, 0, '◇', look.Plan)
	}
	if w.ended != 0 {
		d.Char(dot(w.ended)/2, 0, '╳', look.Beware)
	}
	return d.Lines(p)[0]
}
