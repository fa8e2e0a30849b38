package engine

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
)

// takeNotes does what notes of others and of the share's own clients ask for, and passes
// on what is for others. Letting one client go may lead to more.
func (s *share) takeNotes(now mono.Time) {
	s.read = s.mail.take(s.read)
	for i := range s.read {
		s.takeNote(&s.read[i], now)
	}
	for len(s.env.Notes) > 0 || len(s.answers) > 0 {
		own, answers := s.env.Notes, s.answers
		s.env.Notes, s.answers = nil, nil
		for i := range own {
			s.passOn(&own[i])
		}
		for i := range answers {
			s.passOn(&answers[i])
		}
	}
}

// heed takes notes that have come before something else happens, which they may change.
func (s *share) heed(now mono.Time) {
	if s.mail.some.Load() {
		s.takeNotes(now)
	}
}

// passOn takes a note to whom it is for.
func (s *share) passOn(n *fact.Note) {
	switch n.Kind {
	case fact.Turning, fact.Members:
		s.sendOthers(false, n)
	case fact.MayGo:
		if s.mine(n.Client) {
			s.takeNote(n, s.drv.Now())
		} else {
			s.send(int(n.Client)%s.cfg.Shares, true, n)
		}
	case fact.CannotBe:
		s.sendOthers(true, n)
		s.takeNote(n, s.drv.Now())
	default: // for the conductor
		if s.conductor != nil {
			s.takeNote(n, s.drv.Now())
		} else {
			s.send(s.conductedFrom(), true, n)
		}
	}
}

// conductedFrom is the share that has the conductor, if it is not this one.
func (s *share) conductedFrom() int {
	if s.cfg.Elsewhere != nil {
		return Conductor
	}
	return 0
}

// sendOthers sends a note to every other share.
func (s *share) sendOthers(urgent bool, n *fact.Note) {
	for other := range s.cfg.Shares {
		if other != s.number {
			s.send(other, urgent, n)
		}
	}
}

// send sends a note to another share.
func (s *share) send(to int, urgent bool, n *fact.Note) {
	if err := s.engine.send(to, urgent, n); err != nil {
		s.failure = err
	}
}

// send takes a note to a share, wherever it is.
func (e *Engine) send(share int, urgent bool, n *fact.Note) error {
	if share == Conductor {
		return e.cfg.Elsewhere.Note(share, *n)
	}
	if s := e.here(share); s != nil {
		return s.post(urgent, *n)
	}
	return e.cfg.Elsewhere.Note(share, *n)
}

// post puts a note into the share's mailbox; anybody may.
func (s *share) post(urgent bool, note fact.Note) error {
	if s.cfg.Encoded {
		again, err := fact.ParseNotes(fact.AppendNotes(nil, []fact.Note{note}))
		if err != nil {
			return err
		}
		note = again[0]
	}
	s.mail.post(urgent, note)
	return nil
}

// takeNote does what a note says.
func (s *share) takeNote(n *fact.Note, now mono.Time) {
	switch n.Kind {
	case fact.Turning, fact.Members:
		s.env.Heed(n)
	case fact.Measures:
		s.env.Heed(n)
		for _, id := range s.env.Ready() {
			i := s.local(id)
			s.clients[i].Figured(s.env, now)
			s.after(i)
		}
	case fact.MayGo:
		i := s.local(n.Client)
		s.loadCounts().Together(max(0, s.since(now)-time.Duration(n.At)))
		s.clients[i].Go(s.env, now, n.Which)
		s.after(i)
	case fact.CannotBe:
		s.failure = ErrNotReached
	default:
		s.answers = s.conductor.take(s.answers, n)
	}
}
