package replay

import (
	"bytes"
	"slices"
	"time"
	"unicode/utf8"

	"tidepull/internal/wire"
)

// recordEnd ends a record in several protocols that put more than one into a message (RFC 7464, section 2.2, has it
// in front).
const recordEnd = 0x1e

// Records takes a message apart that holds several: each ends in a record separator, or all are JSON in a line of
// its own. Any other message is one record.
func Records(payload []byte, binary bool) [][]byte {
	whole := [][]byte{payload}
	if binary {
		return whole
	}
	if bytes.IndexByte(payload, recordEnd) >= 0 {
		return nonEmpty(bytes.Split(payload, []byte{recordEnd}), whole)
	}
	if bytes.IndexByte(payload, '\n') < 0 {
		return whole
	}
	lines := nonEmpty(bytes.Split(payload, []byte{'\n'}), whole)
	for _, line := range lines {
		if _, ok := inString(string(bytes.TrimSpace(line))); !ok {
			return whole
		}
	}
	return lines
}

// nonEmpty leaves out what is empty; if that is all of it, instead stands for it.
func nonEmpty(parts, instead [][]byte) [][]byte {
	parts = slices.DeleteFunc(parts, func(b []byte) bool { return len(bytes.TrimSpace(b)) == 0 })
	if len(parts) == 0 {
		return instead
	}
	return parts
}

// PieceGap is the pause between two pieces of a stream of bytes.
const PieceGap = 100 * time.Millisecond

// frame makes an actor whose lines did not end one of messages, if it can be seen where they end, or of bytes.
func (c *conn) frame() {
	if len(c.lines[0])+len(c.lines[1]) == 0 {
		return
	}
	steps := slices.DeleteFunc(c.actor.Steps, func(s Step) bool { return s.Do == Say || s.Do == Hear })
	var came [2][]byte
	for _, s := range c.pieces {
		side := sideOf(&s)
		came[side] = append(came[side], s.Payload...)
	}
	if f := framingOf(came); f != nil {
		c.actor.Speech, c.actor.Ends = Messages, *f
		c.actor.Steps = append(steps, c.messages(f)...)
		return
	}
	c.actor.Speech = Bytes
	for _, s := range c.pieces {
		steps = addPiece(steps, s)
	}
	for i := range steps {
		steps[i].Binary = !utf8.Valid(steps[i].Payload)
	}
	c.actor.Steps = steps
}

func sideOf(s *Step) int {
	if s.Do == Say {
		return 0
	}
	return 1
}

// messages are what went over a connection, each with the time at which its last byte came.
func (c *conn) messages(f *wire.Framing) (steps []Step) {
	var held [2][]byte
	for _, s := range c.pieces {
		side := sideOf(&s)
		held[side] = append(held[side], s.Payload...)
		for {
			message, n, err := f.Next(held[side], 0)
			if err != nil || n == 0 {
				break
			}
			steps = append(steps, Step{Do: s.Do, At: s.At, Payload: slices.Clone(message),
				Binary: !utf8.Valid(message)})
			held[side] = held[side][n:]
		}
	}
	return steps
}

// addPiece takes bytes that came without an end: what follows soon on the same side is one piece with what was
// before.
func addPiece(steps []Step, s Step) []Step {
	if n := len(steps); n > 0 && steps[n-1].Do == s.Do && s.At-steps[n-1].ends < PieceGap {
		last := &steps[n-1]
		last.Payload, last.ends = append(last.Payload, s.Payload...), s.At
		return steps
	}
	s.Payload, s.ends = slices.Clone(s.Payload), s.At
	return append(steps, s)
}

// framings are those that are looked for in bytes, the surest first: what ends messages stands nowhere else, and a
// length of more bytes fits by accident more rarely.
var framings = []wire.Framing{{Ends: "\x00"}, {Ends: "\x1e"}, {Prefix: wire.Prefix4}, {Prefix: wire.Prefix4Low},
	{Prefix: wire.Prefix2}, {Prefix: wire.Prefix2Low}, {Prefix: wire.PrefixVarint}, {Prefix: wire.Prefix1}}

// leastFramed is how many messages say that they end as it seems: fewer may do so by accident.
const leastFramed = 3

// framingOf finds where the messages end in what came from both sides; nil if that cannot be seen.
func framingOf(came [2][]byte) *wire.Framing {
	for i := range framings {
		f := &framings[i]
		if n, ok := fits(f, came[0]); ok {
			if m, ok := fits(f, came[1]); ok && n+m >= leastFramed {
				return f
			}
		}
	}
	return nil
}

// fits reports whether bytes are whole messages and nothing else, and how many.
func fits(f *wire.Framing, b []byte) (n int, ok bool) {
	for len(b) > 0 {
		message, size, err := f.Next(b, 0)
		if err != nil || size == 0 {
			return n, f.Prefix == wire.NoPrefix && err == nil && len(bytes.TrimSpace(b)) == 0
		}
		if len(message) > 0 {
			n++
		}
		b = b[size:]
	}
	return n, true
}
