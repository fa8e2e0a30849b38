package client

import (
	"slices"

	"tidepull/internal/base/mono"
)

// An inbox holds the newest messages that no expect has seen, for sessions with
// an expect that takes what has come already.
type inbox struct {
	messages []received
	bytes    int
}

// Bounds on one client's inbox.
const (
	maxInbox      = 256
	maxInboxBytes = 256 << 10
)

func (in *inbox) add(m received) {
	if m.size() > maxInboxBytes {
		return
	}
	m.text, m.json = slices.Clone(m.text), slices.Clone(m.json)
	in.messages, in.bytes = append(in.messages, m), in.bytes+m.size()
	for len(in.messages) > maxInbox || in.bytes > maxInboxBytes {
		in.bytes -= in.messages[0].size()
		in.messages = slices.Delete(in.messages, 0, 1)
	}
}

func (m *received) size() int { return len(m.text) + len(m.json) }

// cameAlready looks whether what an expect step waits for came before it.
func (c *Client) cameAlready(e *Env, now mono.Time) bool {
	if c.more == nil {
		return false
	}
	in := &c.more.inbox
	for i, message := range in.messages {
		c.read(e, message)
		if c.step().When.True(&e.scope) {
			in.bytes -= message.size()
			in.messages = slices.Delete(in.messages, i, i+1)
			c.met(e, now)
			return true
		}
	}
	return false
}
