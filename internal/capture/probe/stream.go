package probe

import (
	"bytes"
	"fmt"
	"time"

	"tidepull/internal/wire"
)

// unfinishedAfter is how long more of a line is waited for before what has come of it is
// shown.
const unfinishedAfter = 300 * time.Millisecond

// takeTCP takes a line, a message with its length in front, or a piece of bytes.
func (l *Line) takeTCP(held []byte) (int, error) {
	switch {
	case !l.target.Raw:
		return l.takeFramed(held)
	case len(held) > 0:
		piece := bytes.Clone(held)
		l.say(Event{What: In, Op: "bytes", Last: true, Payload: piece, Message: piece})
	}
	return len(held), nil
}

// framing is that of the target's messages: lines, or what it says.
func (t *Target) framing() *wire.Framing { return &wire.Framing{Ends: t.Ending, Prefix: t.Prefix} }

// takeFramed takes a line, or a message with its length in front.
func (l *Line) takeFramed(held []byte) (int, error) {
	message, n, err := l.target.incoming().Next(held, min(l.looked, len(held)))
	if n == 0 {
		l.looked = len(held)
		return 0, err
	}
	l.looked = 0
	message = nonNil(bytes.Clone(message))
	e := Event{What: In, Op: "line", Last: true, Payload: message, Message: message}
	if l.target.Prefix != wire.NoPrefix {
		e.Op, e.Detail = "message", fmt.Sprintf("behind its length in %d bytes", n-len(message))
	}
	l.say(e)
	return n, nil
}

// incoming is the framing of what the server says: its lines may end in LF alone.
func (t *Target) incoming() *wire.Framing {
	f := t.framing()
	if f.Lines() {
		f.Ends = "\n"
	}
	return f
}

// unfinished shows what has come of a line, or message, that does not end.
func (l *Line) unfinished(held []byte, when string) {
	const most = 4 << 10
	shown, detail := held, when
	if len(shown) > most {
		shown, detail = shown[len(shown)-most:], fmt.Sprintf("%s; the last of %d bytes", when, len(held))
	}
	l.say(Event{What: In, Op: "unfinished", Payload: bytes.Clone(shown), Detail: detail})
}
