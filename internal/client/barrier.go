package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/trial"
)

// waitForOthers makes the client wait at a barrier. Who is there is known to the
// conductor, which lets it go on.
func (c *Client) waitForOthers(e *Env, now mono.Time, s *trial.Step) {
	e.note(c, now, fact.WaitsAt, int32(s.Barrier), 0)
	c.await(forOthers, now, s.Within)
}

// setsOut tells that a client which had ended can come to a barrier again.
func (e *Env) setsOut(c *Client, now mono.Time) {
	if c.came {
		c.came = false
		e.note(c, now, fact.Ended, 0, -1)
	}
}

// landed tells that a client ended. Nobody waits for it any more.
func (e *Env) landed(c *Client, now mono.Time) {
	e.repeatsChange(c, now, -int32(c.depth))
	c.depth = 0
	if len(e.Trial.Barriers) > 0 {
		c.came = true
		e.note(c, now, fact.Ended, 0, 1)
	}
}
