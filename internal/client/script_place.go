package client

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/trial"
)

// A place is where a script is in its session.
type place struct {
	pc    int32
	depth int8 // of repeats around it
}

func (s *script) place() place { return place{s.pc, s.depth} }

// goTo goes to a place that the script was at before.
func (s *script) goTo(e *Env, to place) {
	s.giveUpBarrier(e)
	e.repeatsChange(int32(to.depth - s.depth))
	s.pc, s.depth = to.pc, to.depth
}

// A held script is one that goes on later, where it was.
type held struct {
	place
	wait  wait
	until mono.Time
}

// hold leaves the session where it is.
func (s *script) hold(e *Env) held {
	h := held{s.place(), s.wait, s.deadline}
	s.leavesRepeats(e)
	return h
}

// follow begins another session, after a while.
func (s *script) follow(e *Env, session *trial.Session, after time.Duration) {
	s.session, s.pc, s.depth = session, 0, 0
	s.await(e, forReturn, after)
}

// beginAgain goes on with a session after one of its steps, out of all repeats.
func (s *script) beginAgain(e *Env, session *trial.Session, after int32) {
	s.session, s.pc, s.depth = session, after+1, 0
	s.catchUp(e)
	s.run(e)
}

// goOn goes on with a session where it was held, as if the time in between had not been.
func (s *script) goOn(e *Env, session *trial.Session, h held, away time.Duration) {
	s.session = session
	s.catchUp(e)
	s.pc, s.depth = h.pc, h.depth
	e.repeatsChange(int32(s.depth))
	for i := range s.depth {
		s.iterations[i].start = s.iterations[i].start.Add(away)
	}
	switch h.wait {
	case forTime:
		s.awaits(e, forTime)
		s.deadline = max(e.now, h.until)
		if s.depth > 0 {
			s.deadline = max(e.now, h.until.Add(away))
		}
	case forOthers:
		s.awaits(e, forOthers)
		s.deadline = max(e.now, h.until)
	case forExpected, forLeave, forAnswer, forFigures:
		s.pc++ // it is not waited for any more
		s.run(e)
	default:
		s.run(e)
	}
}
