package client

import (
	"time"

	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/wire/transport"
)

// throttle makes a client that reads slowly read nothing for as long as the
// bytes that it just read should have taken.
func (c *Client) throttle(e *Env, n int, now mono.Time) {
	if c.more == nil || c.more.perSec == 0 || c.ebbing {
		return
	}
	c.more.resume = now.Add(time.Duration(n) * time.Second / time.Duration(c.more.perSec))
	c.io(e).Lines[transport.Main].Hold = true
}

// readOn ends that a client reads slowly. What is said within a margin after it
// waits behind what has piled up.
func (c *Client) readOn(e *Env, now mono.Time, margin time.Duration) {
	if c.more == nil || c.more.perSec == 0 {
		return
	}
	if c.more.resume != 0 {
		c.io(e).Lines[transport.Main].Resume = true
	}
	c.more.perSec, c.more.resume, c.more.slow = 0, 0, maybe.Index[int32]{}
	c.frees(e, now, excuse.SlowReader, now.Add(margin))
}
