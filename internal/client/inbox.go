package client

import (
	"slices"

	"tidepull/internal/base/mono"
)

// An inbox holds the newest messages that no expect has seen, for sessions with
// an expect that takes what has come already.
type inbox struct {
	messages []([]byte)
	bytes    int
}

// Bounds on one client's inbox.
const (
	maxInbox      = 256
	maxInboxBytes = 256 << 10
)

func (in *inbox) add(message []byte) {
	if len(message) > maxInboxBytes {
		return
	}
	in.messages, in.bytes = append(in.messages, slices.Clone(message)), in.bytes+len(message)
	for len(in.messages) > maxInbox || in.bytes > maxInboxBytes {
		in.bytes -= len(in.messages[0])
		in.messages = slices.Delete(in.messages, 0, 1)
	}
}

// cameAlready looks whether what an expect step waits for came before it.
func (c *Client) cameAlready(e *Env, now mono.Time) bool {
	if c.more == nil {
		return false
	}
	in := &c.more.inbox
	for i, message := range in.messages {
		c.read(e, message)
		if c.step().When.True(&e.scope) {
			in.bytes -= len(message)
			in.messages = slices.Delete(in.messages, i, i+1)
			c.met(e, now)
			return true
		}
	}
	return false
}
