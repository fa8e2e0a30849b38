package client

import (
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// An iteration is where the client is in one repeat that it is in.
type iteration struct {
	start mono.Time // of the first one; of the last one if intervals vary
	round int32
	at    int32 // the index of the repeat's step
}

// repeat begins a repeat: its first iteration comes after a random part of its
// interval, so that clients which came together do not speak together.
func (s *script) repeat(e *Env, step *trial.Step) {
	e.repeatsChange(1)
	first := s.clock.Add(time.Duration(e.fraction() * float64(s.interval(e, step.Repeat))))
	if step.Repeat.Burst > 1 {
		first = s.clock
	}
	if s.iterations == nil {
		s.iterations = new([trial.MaxNesting]iteration)
	}
	s.iterations[s.depth] = iteration{start: first, at: s.pc}
	s.depth++
	s.nextIteration(e, step)
}

// interval is the time between two iterations, before chance comes in.
func (s *script) interval(e *Env, r *trial.Rate) time.Duration {
	among := 1
	switch r.Shared {
	case trial.PerCrew:
		among = e.inRepeats[e.c.crew].before(e.rel(e.now))
	case trial.PerRoom:
		if e.judge.in() != noRoom {
			among = e.membersBefore(e.judge.in(), e.rel(e.now))
		}
	}
	return r.Every * time.Duration(max(1, among))
}

// nextIteration waits for the next iteration of the repeat at pc, or goes past it.
func (s *script) nextIteration(e *Env, step *trial.Step) {
	t, r := &s.iterations[s.depth-1], step.Repeat
	if s.ebbing {
		s.goesPastRepeats(e)
		return
	}
	if r.Times > 0 && int(t.round) >= r.Times {
		s.depth--
		e.repeatsChange(-1)
		s.pc = int32(step.Goto) + 1
		return
	}
	if r.Every == 0 { // as fast as answers come
		s.catchUp(e)
		s.pc++
		return
	}
	due := t.start
	switch {
	case t.round == 0:
	case int(t.round)%r.Burst != 0: // in the middle of a burst
	case r.Random:
		t.start = t.start.Add(time.Duration(-math.Log(1-e.fraction()) * float64(s.interval(e, r))))
		due = t.start
	case r.Shared != trial.PerClient:
		t.start = t.start.Add(s.interval(e, r))
		due = t.start
	case r.Burst > 1:
		t.start = t.start.Add(r.Every)
		due = t.start
	default:
		due = t.start.Add(time.Duration(t.round) * r.Every)
	}
	nominal := due
	if t.round > 0 && r.Jitter > 0 {
		due = due.Add(time.Duration((2*e.fraction() - 1) * r.Jitter * float64(r.Every)))
	}
	// An iteration cannot begin before the one before it is over. What the script's own
	// waits push back is not the server's latency: it is counted apart.
	if back := s.clock.Sub(max(due, nominal)); back > 0 && int(t.round)%r.Burst == 0 {
		e.Book.Now().Times[logbook.PushedBack].Record(back)
	}
	s.awaits(e, forTime)
	s.deadline = max(due, s.clock)
}

// goesPastRepeats goes on after the outermost repeat.
func (s *script) goesPastRepeats(e *Env) {
	s.pc = int32(s.session.Steps[s.iterations[0].at].Goto) + 1
	s.leavesRepeats(e)
}

// leavesRepeats has the client be in no repeat.
func (s *script) leavesRepeats(e *Env) {
	e.repeatsChange(-int32(s.depth))
	s.depth = 0
}

// inBurst reports whether what is said comes in a burst.
func (s *script) inBurst() bool {
	return s.depth > 0 && s.session.Steps[s.iterations[s.depth-1].at].Repeat.Burst > 1
}

// round is how often the innermost repeat has run.
func (s *script) round() int32 {
	if s.depth == 0 {
		return 0
	}
	return s.iterations[s.depth-1].round
}
