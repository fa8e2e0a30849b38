package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
)

// payloads is what a share knows of the newest messages whose payloads are compared: what comes otherwise is shown to
// the account, and nothing else is copied. Only the account can say that it is wrong.
type payloads struct {
	newest []compared // by number & (len-1); nil: none was said
	shown  int        // in the second at hand
	second mono.Time
}

type compared struct {
	number uint64
	sum    uint64 // of what the share said itself; else of what came first
	others uint8  // how many that came with another were shown
}

// Bounds: the messages that are known; how many recipients of one message, and of all in a second, are shown.
const (
	maxCompared      = 1 << 12
	shownOfOne       = 3
	shownInOneSecond = 500
)

func (p *payloads) of(number uint64) *compared {
	if p.newest == nil {
		p.newest = make([]compared, maxCompared)
	}
	return &p.newest[number&(maxCompared-1)]
}

// means tells what is compared of a message that is said.
func (e *Env) means(number, sum uint64, text []byte, binary bool) {
	*e.payloads.of(number) = compared{number: number, sum: sum}
	e.tellPayload(fact.Means, number, text, binary)
}

// shows tells what came of a message, if it may be otherwise than it was said: it is not what the share said, or, if
// another share said it, not what came first.
func (e *Env) shows(number uint64, m *reading.Message) {
	c := e.payloads.of(number)
	switch streams := uint64(Streams(e.Trial, e.Shares)); {
	case c.number == number && c.sum == m.Sum:
		return
	case c.number == number && c.sum != 0:
		p := &e.payloads
		if e.now.Sub(p.second) >= 1e9 {
			p.second, p.shown = e.now, 0
		}
		if c.others >= shownOfOne || p.shown >= shownInOneSecond {
			return
		}
		c.others, p.shown = c.others+1, p.shown+1
	case number%streams == uint64(e.Share): // it was said too long ago
		return
	default:
		*c = compared{number: number, sum: m.Sum}
	}
	e.tellPayload(fact.Shows, number, m.Compared, m.Binary)
}

func (e *Env) tellPayload(k fact.Kind, number uint64, text []byte, binary bool) {
	shown := e.shown(text)
	f := fact.Fact{Kind: k, Client: e.c.id, Peer: -1, Room: noRoom, Number: number, Size: uint32(len(text))}
	if len(text) <= lane.MaxBody { // hidden secrets have another length
		f.Size = uint32(len(shown))
	}
	if binary {
		f.Flags = fact.Binary
	}
	e.tellText(f, shown)
}
