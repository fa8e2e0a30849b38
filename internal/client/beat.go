package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/lane"
)

// beatAnswer handles a message that is a sign of life of the server's, or asks for one.
func (c *Client) beatAnswer(e *Env, now mono.Time) {
	if c.more != nil && c.more.silent {
		return
	}
	e.counts().Pings++
	e.record(c, now, lane.Beat, 0, 0)
	if answer := e.Trial.Dialect.Beat.Answer; answer != nil {
		c.send(e, now, answer)
	}
}

// beatUnasked sends a sign of life, and says when the next one is due.
func (c *Client) beatUnasked(e *Env, now mono.Time) {
	b := &e.Trial.Dialect.Beat
	if c.phase != open || c.more.silent {
		c.more.beatAt = 0
		return
	}
	c.more.beatAt = c.more.beatAt.Add(b.Every)
	if c.more.beatAt <= now { // the tool was late: beats are not sent in bunches
		c.more.beatAt = now.Add(b.Every)
	}
	e.record(c, now, lane.Beat, 0, 0)
	c.fill(e)
	c.send(e, now, b.Send)
}
