// Package scene is what every view of a run is given to draw: the snapshot, the
// window on it, and the room there is.
package scene

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
)

// A Scene is one moment of a run view. It is made again for each picture.
type Scene struct {
	Palette *look.Palette
	Run     *run.Snapshot
	Window  *logbook.Window // the sum of the window
	Entries logbook.Seconds // its seconds
	Label   string          // of the window, for headings
	Width   int
	Height  int // without tide strip, header and footer
}

// Holds reports whether an instant is within the window.
func (sc Scene) Holds(at mono.Time) bool {
	if len(sc.Entries) == 0 {
		return false
	}
	second := int(time.Duration(at) / time.Second)
	return second >= sc.Entries[0].At && second < sc.Entries.Count()
}

// A Span is the window on the tide, in seconds; To is not in it. The zero value
// is no window: the whole run.
type Span struct{ From, To int }

// Set reports whether there is a window.
func (s Span) Set() bool { return s.To > s.From }

// Within cuts a span to a run of n seconds.
func (s Span) Within(n int) Span {
	if !s.Set() || n == 0 {
		return Span{}
	}
	from := min(max(0, s.From), n-1)
	return Span{from, min(max(s.To, from+1), n)}
}

// Move moves the span by some seconds, within a run of n seconds.
func (s Span) Move(by, n int) Span {
	size := s.To - s.From
	from := min(max(0, s.From+by), max(0, n-size))
	return Span{from, from + size}.Within(n)
}

// Resize makes the span longer or shorter by a share, at least by a second,
// keeping its end where it is.
func (s Span) Resize(factor float64, n int) Span {
	size := s.To - s.From
	next := max(1, int(float64(size)*factor))
	if next == size && factor > 1 {
		next++
	}
	return Span{s.To - next, s.To}.Within(n)
}

// Label writes the span for people.
func (s Span) Label() string {
	if !s.Set() {
		return "whole run"
	}
	return units.Clock(time.Duration(s.From)*time.Second) + "-" + units.Clock(time.Duration(s.To)*time.Second)
}

// Of gives the entries of a span.
func (s Span) Of(entries logbook.Seconds) logbook.Seconds {
	if !s.Set() {
		return entries
	}
	s = s.Within(entries.Count())
	return entries.Between(s.From, s.To)
}

// lately is how many seconds the figures of "just now" sum up.
const lately = 10

// Recent is the span of the last whole seconds.
func Recent(s *run.Snapshot) Span {
	end := s.Entries.Count()
	if !s.Finished {
		end-- // the second that is going on
	}
	return Span{max(0, end-lately), max(0, end)}
}

// InkOf is the ink in which a fate is drawn if there is any of it.
func InkOf(f ledger.Fate) look.Ink {
	switch f.Severity() {
	case ledger.Missing:
		return look.Lost
	case ledger.Wrong, ledger.Slow:
		return look.Beware
	}
	return look.Text
}
