package client

import (
	"bytes"
	"fmt"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
)

// Bounds on messages that go on in the next frame.
const (
	maxUnfinished      = 1 << 20   // bytes of one client's
	maxUnfinishedInAll = 128 << 20 // bytes of all clients of a loop together
)

// message handles what came in one frame: one message, several, or parts of some.
func (j *judge) message(e *Env, ev transport.Event, came mono.Span) {
	d := &e.Trial.Dialect
	switch {
	case d.Across || d.Length != nil:
		j.assemble(e, ev, came)
	case len(d.Split) > 0:
		for rest, more := ev.Payload, true; more; {
			var part []byte
			if part, rest, more = bytes.Cut(rest, d.Split); len(part) > 0 {
				j.list(e, part, ev.Binary, came)
			}
		}
	default:
		j.list(e, ev.Payload, ev.Binary, came)
	}
}

// assemble handles the messages that a frame completes, and keeps the beginning of the
// one that it does not.
func (j *judge) assemble(e *Env, ev transport.Event, came mono.Span) {
	rest, searched, ours := ev.Payload, 0, false // ours: rest may be kept as it is
	if j.rare != nil && len(j.rare.unfinished) > 0 {
		searched = len(j.rare.unfinished)
		rest, ours = append(j.rare.unfinished, rest...), true
		e.unfinished -= searched
		j.rare.unfinished = nil
	}
	for len(rest) > 0 {
		size, behind, err := e.sizeOf(rest, searched)
		if err != nil {
			j.unreadable(e, err)
			return
		}
		if size < 0 || size+behind > len(rest) {
			break
		}
		if size > 0 {
			j.list(e, rest[:size], ev.Binary, came)
		}
		if e.path.is(idle) || e.path.is(offline) { // what it has just heard ended its connection
			return
		}
		rest, searched, ours = rest[size+behind:], 0, false
	}
	if len(rest) == 0 {
		return
	}
	kept := rest
	if !ours { // else it is not copied once more for every piece
		kept = bytes.Clone(rest)
	}
	j.own().unfinished = kept
	e.unfinished += len(kept)
	switch {
	case len(kept) > maxUnfinished:
		j.unreadable(e, &wire.ProtocolError{Protocol: "dialect", Rule: "1 MiB came without the end of a message"})
	case e.unfinished > maxUnfinishedInAll:
		j.unreadable(e, &wire.ProtocolError{Protocol: "dialect",
			Rule: "all clients together hold 128 MiB of messages that have not ended"})
	}
}

// sizeOf gives how many bytes the message at the beginning of some has, and how many
// stand between it and the next one; less than 0 if that cannot be said yet. In the first
// of them there is no end of one.
func (e *Env) sizeOf(b []byte, searched int) (size, behind int, err error) {
	d := &e.Trial.Dialect
	if d.Across {
		from := max(0, searched-len(d.Split)+1)
		at := bytes.Index(b[from:], d.Split)
		if at < 0 {
			return -1, 0, nil
		}
		return from + at, len(d.Split), nil
	}
	e.scope.Vars[expr.VarText] = expr.Value{Kind: expr.String, Str: b}
	v := d.Length.Eval(&e.scope)
	if v.Kind == expr.Missing {
		return -1, 0, nil
	}
	n, ok := v.Int()
	if !ok || n < 1 || n > maxUnfinished {
		return 0, 0, &wire.ProtocolError{Protocol: "dialect", Rule: fmt.Sprintf("by the dialect's length, a message "+
			"would have %s bytes; it has from 1 to %d: '%s'", plain.Text(string(v.Append(nil)), 40), maxUnfinished,
			plain.Text(string(b[:min(len(b), 40)]), 60))}
	}
	return int(n), 0, nil
}

// Unfinished is how many bytes all clients hold of messages that have not ended.
func (e *Env) Unfinished() int { return e.unfinished }

// unreadable ends a connection on which nothing more can be told apart.
func (j *judge) unreadable(e *Env, err error) {
	e.counts().Malformed++
	e.path.breaksOff(e, err)
}

// letGo forgets what came of a message that did not end. What never became a message is
// said: the dialect may be wrong about where they end.
func (j *judge) letGo(e *Env) {
	if j.rare == nil || len(j.rare.unfinished) == 0 {
		return
	}
	rest := j.rare.unfinished
	e.unfinished -= len(rest)
	j.rare.unfinished = nil
	e.Reasons.Count(e.hide(fmt.Sprintf("not ended: '%s'", plain.Text(string(rest[:min(len(rest), 200)]), 60))), 1)
}
