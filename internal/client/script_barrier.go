package client

import (
	"errors"

	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// waitForOthers makes the client wait at a barrier. Who is there is known to the
// conductor, which lets it go on.
func (s *script) waitForOthers(e *Env, step *trial.Step) {
	e.note(fact.WaitsAt, int32(step.Barrier), 0)
	s.await(e, forOthers, step.Within)
}

// giveUpBarrier has nobody wait for the client at the barrier where it waits, if it does: it will
// come there again, or never.
func (s *script) giveUpBarrier(e *Env) {
	if s.wait == forOthers {
		e.note(fact.WaitsNot, 0, 0)
	}
}

// setsOut tells that a client which had ended can come to a barrier again.
func (s *script) setsOut(e *Env) {
	if s.came {
		s.came = false
		e.note(fact.Ended, 0, -1)
	}
}

// stops has the session go no further.
func (s *script) stops(e *Env) {
	s.giveUpBarrier(e)
	s.leavesRepeats(e)
	s.awaits(e, forNothing)
}

// failPending fails what a client waits for when its connection breaks.
func (s *script) failPending(e *Env, err error) {
	if s.wait != forExpected || s.step().Never {
		return
	}
	e.counts().Missed++
	doubt := e.closedInDoubt()
	e.doubts(doubt).Missed++
	why := "the connection broke before it came: " + reasonOf(err)
	e.event(logbook.Missed, noRoom, e.countReason("missed", errors.New(s.step().Label)))
	e.fails(s.step().Check, why, doubt)
}
