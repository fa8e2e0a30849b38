package client

import (
	"slices"

	"tidepull/internal/client/reading"
)

// An inbox holds the newest messages that no expect has seen, for sessions with
// an expect that takes what has come already.
type inbox struct {
	messages []reading.Part
	bytes    int
}

// Bounds on one client's inbox.
const (
	maxInbox      = 256
	maxInboxBytes = 256 << 10
)

func (in *inbox) add(m reading.Part) {
	if m.Size() > maxInboxBytes {
		return
	}
	m.Text, m.JSON = slices.Clone(m.Text), slices.Clone(m.JSON)
	in.messages, in.bytes = append(in.messages, m), in.bytes+m.Size()
	for len(in.messages) > maxInbox || in.bytes > maxInboxBytes {
		in.bytes -= in.messages[0].Size()
		in.messages = slices.Delete(in.messages, 0, 1)
	}
}

// cameAlready looks whether what an expect step waits for came before it.
func (j *judge) cameAlready(e *Env) bool {
	if j.rare == nil {
		return false
	}
	in := &j.rare.inbox
	for i, message := range in.messages {
		e.load(message)
		if e.script.step().When.True(&e.scope) {
			in.bytes -= message.Size()
			in.messages = slices.Delete(in.messages, i, i+1)
			j.met(e)
			return true
		}
	}
	return false
}
