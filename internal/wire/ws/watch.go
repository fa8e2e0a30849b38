package ws

import (
	"errors"
	"fmt"
	"unicode/utf8"

	"tidepull/internal/wire"
)

// A Watcher looks on at one direction of a connection: it gives each frame as it
// is, says what is wrong with it, and puts messages together. It goes on where a
// Reader would give up.
type Watcher struct {
	From    Role // that sends the frames
	Deflate bool // compression was agreed on (RFC 7692)
	Limit   int  // most bytes of one message, 0 for DefaultLimit

	op       byte // of the message under way, 0 for none
	parts    []byte
	pieces   int
	squeezed bool
	inflater Inflater
}

// A Watched is a frame, and the message that it ends.
type Watched struct {
	Frame
	Wrong *wire.ProtocolError // which rule it breaks; nil if none

	Whole      bool   // it ends a message, of which the rest is
	Kind       byte   // OpText or OpBinary
	Message    []byte // valid until the next call
	Fragments  int
	Compressed int // bytes that it took; 0 if it was not compressed
}

// Next takes one frame from the front of b, and says how many bytes that was; 0 if
// b does not hold it all. An error means that the rest cannot be followed.
func (w *Watcher) Next(b []byte) (e Watched, n int, err error) {
	if e.Frame, n, err = parseFrame(b); err != nil || n == 0 {
		return e, n, err
	}
	reserved := e.RSV
	if w.Deflate && e.Op < OpClose && e.Op != OpContinuation {
		reserved &^= compressed
	}
	e.Wrong = broken(frameHead{e.Fin, reserved, e.Op, e.Masked}, uint64(len(e.Payload)), w.From, w.op != 0)
	if e.Op == OpClose && len(e.Payload) == 1 && e.Wrong == nil {
		e.Wrong = violation("a close frame has half a code", "5.5.1", CloseProtocolError)
	}
	if e.Op >= OpClose || Reserved(e.Op) {
		return e, n, nil
	}
	return e, n, w.assemble(&e)
}

// compressed is the reserved bit of a compressed message (RFC 7692 6), and CompressedBit
// the same in a frame's first byte.
const (
	compressed    = 4
	CompressedBit = compressed << 4
)

func (w *Watcher) assemble(e *Watched) error {
	if e.Op != OpContinuation {
		w.op, w.parts, w.pieces, w.squeezed = e.Op, nil, 0, w.Deflate && e.RSV&compressed != 0
	}
	limit := w.Limit
	if limit == 0 {
		limit = DefaultLimit
	}
	w.pieces++
	if w.parts = append(w.parts, e.Payload...); len(w.parts) > limit {
		return fmt.Errorf("a message of more than %d MiB", limit>>20)
	}
	if !e.Fin || w.op == 0 {
		return nil
	}
	e.Whole, e.Kind, e.Message, e.Fragments = true, w.op, w.parts, w.pieces
	if w.squeezed {
		out, err := w.inflater.inflate(w.parts, limit)
		if err != nil {
			return errors.Join(errors.New("a compressed message cannot be read"), err)
		}
		e.Compressed, e.Message = len(w.parts), out
	}
	if e.Wrong == nil && e.Kind == OpText && !utf8.Valid(e.Message) {
		e.Wrong = violation("a text message is no valid UTF-8", "8.1", CloseBadPayload)
	}
	w.op, w.parts = 0, nil
	return nil
}
