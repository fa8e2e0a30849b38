package excuse

import (
	"cmp"
	"slices"

	"tidepull/internal/base/mono"
)

// An Excuse is that a cause was in the way of a client.
type Excuse struct {
	Cause    Cause
	From, To mono.Time // To is Never while it goes on
}

// A Store keeps what was in the way of clients, and when. Its zero value is empty. To begin and
// to end something, to look for it and to forget it takes at most the logarithm of how often it
// has happened to the client since Horizon.
type Store struct {
	// Horizon is the earliest time that is still asked about. Of what was over before it only
	// the latest of a cause is sure to be kept.
	Horizon mono.Time
	lines   [][]line // by client; few clients have any
}

// A line is all that one cause did to one client, in the order of time: both the beginnings and
// the ends rise.
type line struct {
	cause Cause
	spans []mono.Span
}

// Begin keeps that something is in the way from a time on; false if it was already.
func (s *Store) Begin(c int32, by Cause, at mono.Time) bool {
	l := s.lineOf(c, by)
	if n := len(l.spans); n > 0 && l.spans[n-1].To > at {
		was := l.spans[n-1].To
		l.spans[n-1].To = mono.Never
		return was != mono.Never
	}
	l.add(mono.Span{From: at, To: mono.Never}, s.Horizon)
	return true
}

// End keeps that it is in the way until a time and no longer; false if it was not.
func (s *Store) End(c int32, by Cause, at mono.Time) bool {
	l := s.find(c, by)
	if l == nil || len(l.spans) == 0 {
		return false
	}
	last := &l.spans[len(l.spans)-1]
	if last.To != mono.Never {
		return false
	}
	last.To = max(last.From, at)
	return true
}

// Add keeps that something was in the way from one time to another, of which it is known only
// now. Of one client and cause neither may be before those of the last.
func (s *Store) Add(c int32, x Excuse) {
	s.lineOf(c, x.Cause).add(mono.Span{From: x.From, To: x.To}, s.Horizon)
}

// Drop forgets all that a cause did to a client.
func (s *Store) Drop(c int32, by Cause) {
	if l := s.find(c, by); l != nil {
		l.spans = l.spans[:0]
	}
}

// Ever reports whether anything was ever in the way of a client.
func (s *Store) Ever(c int32) bool { return int(c) < len(s.lines) && len(s.lines[c]) > 0 }

// Find gives what was in the way of a client at some time from one to another, both included; of
// several the one that went on for longest.
func (s *Store) Find(c int32, of Set, from, to mono.Time) (x Excuse, found bool) {
	if int(c) >= len(s.lines) {
		return x, false
	}
	for _, l := range s.lines[c] {
		if !of.Has(l.cause) {
			continue
		}
		// The last that had begun by then went on for longest.
		n, _ := slices.BinarySearchFunc(l.spans, to, func(in mono.Span, t mono.Time) int {
			if in.From <= t {
				return -1
			}
			return 1
		})
		if n > 0 && l.spans[n-1].To >= from && (!found || l.spans[n-1].To > x.To) {
			x, found = Excuse{l.cause, l.spans[n-1].From, l.spans[n-1].To}, true
		}
	}
	return x, found
}

// Since gives what has been in the way of a client at some time since one.
func (s *Store) Since(c int32, of Set, from mono.Time) (x Excuse, found bool) {
	return s.Find(c, of, from, mono.Never)
}

// Last gives the latest that a cause did to a client.
func (s *Store) Last(c int32, by Cause) (x Excuse, found bool) {
	return s.Since(c, Of(by), -mono.Never)
}

func (s *Store) find(c int32, by Cause) *line {
	if int(c) < len(s.lines) {
		for i := range s.lines[c] {
			if l := &s.lines[c][i]; l.cause == by {
				return l
			}
		}
	}
	return nil
}

func (s *Store) lineOf(c int32, by Cause) *line {
	if l := s.find(c, by); l != nil {
		return l
	}
	if more := int(c) + 1 - len(s.lines); more > 0 {
		s.lines = append(s.lines, make([][]line, more)...)
	}
	s.lines[c] = append(s.lines[c], line{cause: by})
	return &s.lines[c][len(s.lines[c])-1]
}

// add adds a span. If the list would have to grow, what was over before the horizon goes first, if
// that is the half of it: so each span is moved once at most for every one that is added.
func (l *line) add(s mono.Span, horizon mono.Time) {
	if n := len(l.spans); n > 0 && n == cap(l.spans) {
		over, _ := slices.BinarySearchFunc(l.spans, horizon, func(in mono.Span, t mono.Time) int {
			return cmp.Compare(in.To, t)
		})
		if over >= (n+1)/2 {
			l.spans = l.spans[:copy(l.spans, l.spans[over:])]
		}
	}
	l.spans = append(l.spans, s)
}
