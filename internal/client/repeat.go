package client

import (
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// repeat begins a repeat: its first iteration comes after a random part of its
// interval, so that clients which came together do not speak together.
func (c *Client) repeat(e *Env, now mono.Time, s *trial.Step) {
	e.repeatsChange(c, now, 1)
	first := c.clock.Add(time.Duration(c.fraction() * float64(c.interval(e, s.Repeat, now))))
	if s.Repeat.Burst > 1 {
		first = c.clock
	}
	if c.iterations == nil {
		c.iterations = new([trial.MaxNesting]iteration)
	}
	c.iterations[c.depth] = iteration{start: first, at: c.pc}
	c.depth++
	c.nextIteration(e, now, s)
}

// interval is the time between two iterations, before chance comes in.
func (c *Client) interval(e *Env, r *trial.Rate, now mono.Time) time.Duration {
	among := 1
	switch r.Shared {
	case trial.PerCrew:
		among = e.inRepeats[c.crew].before(e.rel(now))
	case trial.PerRoom:
		if c.room != noRoom {
			among = e.membersBefore(c.room, e.rel(now))
		}
	}
	return r.Every * time.Duration(max(1, among))
}

// nextIteration waits for the next nextIteration of the repeat at pc, or goes past it.
func (c *Client) nextIteration(e *Env, now mono.Time, s *trial.Step) {
	t, r := &c.iterations[c.depth-1], s.Repeat
	if c.ebbing {
		c.leaveRepeats(e, now)
		return
	}
	if r.Times > 0 && int(t.round) >= r.Times {
		c.depth--
		e.repeatsChange(c, now, -1)
		c.pc = int32(s.Goto) + 1
		return
	}
	if r.Every == 0 { // as fast as answers come
		c.clock = max(c.clock, now)
		c.pc++
		return
	}
	due := t.start
	switch {
	case t.round == 0:
	case int(t.round)%r.Burst != 0: // in the middle of a burst
	case r.Random:
		t.start = t.start.Add(time.Duration(-math.Log(1-c.fraction()) * float64(c.interval(e, r, now))))
		due = t.start
	case r.Shared != trial.PerClient:
		t.start = t.start.Add(c.interval(e, r, now))
		due = t.start
	case r.Burst > 1:
		t.start = t.start.Add(r.Every)
		due = t.start
	default:
		due = t.start.Add(time.Duration(t.round) * r.Every)
	}
	nominal := due
	if t.round > 0 && r.Jitter > 0 {
		due = due.Add(time.Duration((2*c.fraction() - 1) * r.Jitter * float64(r.Every)))
	}
	// An iteration cannot begin before the one before it is over. What the script's own
	// waits push back is not the server's latency: it is counted apart.
	if back := c.clock.Sub(max(due, nominal)); back > 0 && int(t.round)%r.Burst == 0 {
		e.Book.Now().Times[logbook.PushedBack].Record(back)
	}
	c.wait, c.began, c.deadline = forTime, now, max(due, c.clock)
}

// leaveRepeats goes on after the outermost repeat.
func (c *Client) leaveRepeats(e *Env, now mono.Time) {
	e.repeatsChange(c, now, -int32(c.depth))
	c.pc = int32(c.session.Steps[c.iterations[0].at].Goto) + 1
	c.depth = 0
}
