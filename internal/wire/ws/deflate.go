package ws

import (
	"bytes"
	"compress/flate"
	"errors"
	"io"

	stateless "github.com/klauspost/compress/flate"
)

// A Flater packs and unpacks messages (RFC 7692 7.2). It has no state between two of
// them: what a side may refer to is a Past, which is all that a connection keeps. So all
// connections of a loop share one. Its zero value is ready.
type Flater struct {
	r   io.ReadCloser
	src bytes.Reader
	end bytes.Reader
	in  io.Reader
	out bytes.Buffer
}

// A Past is the last of what one direction has said, as far back as the next message may
// refer.
type Past struct{ bytes []byte }

// PastFor is what a direction starts with: nil if each message stands for itself (fresh).
func PastFor(fresh bool) *Past {
	if fresh {
		return nil
	}
	return &Past{}
}

// Size is how many bytes it holds.
func (p *Past) Size() int { return len(p.bytes) }

// add puts a message behind the others; no more than 2 to the power of bits stay.
func (p *Past) add(message []byte, bits int) {
	window := 1 << bits
	if len(message) >= window {
		p.bytes = append(p.bytes[:0], message[len(message)-window:]...)
		return
	}
	if drop := len(p.bytes) + len(message) - window; drop > 0 {
		p.bytes = p.bytes[:copy(p.bytes, p.bytes[drop:])]
	}
	p.bytes = append(p.bytes, message...)
}

// tail is what senders leave out of a message, and an empty last block.
var tail = []byte{0, 0, 0xff, 0xff, 1, 0, 0, 0xff, 0xff}

// errTooBig is why a message is not unpacked.
var errTooBig = errors.New("the message is larger than the limit")

// Unpack gives what a compressed message says, which is valid until the next call; limit
// bounds it. past is nil if the message refers to nothing before.
func (f *Flater) Unpack(payload []byte, past *Past, bits, limit int) ([]byte, error) {
	var before []byte
	if past != nil {
		before = past.bytes
	}
	f.src.Reset(payload)
	f.end.Reset(tail)
	f.in = io.MultiReader(&f.src, &f.end)
	if f.r == nil {
		f.r = flate.NewReaderDict(f.in, before)
	} else if err := f.r.(flate.Resetter).Reset(f.in, before); err != nil {
		return nil, err
	}
	f.out.Reset()
	n, err := io.Copy(&f.out, io.LimitReader(f.r, int64(limit)+1))
	switch {
	case err != nil:
		return nil, err
	case n > int64(limit):
		return nil, errTooBig
	}
	out := f.out.Bytes()
	if past != nil {
		past.add(out, bits)
	}
	return out, nil
}

// referenceBits says how far back the packer refers at most, whatever the window is: 8
// KiB.
const referenceBits = 13

// Pack appends a compressed message to dst. past is nil if it is to refer to nothing
// before; the window has 2 to the power of bits bytes.
func (f *Flater) Pack(dst, payload []byte, past *Past, bits int) []byte {
	var before []byte
	if past != nil {
		before = past.bytes
	}
	f.out.Reset()
	// The packer refers back within one call as far as it likes: so it gets half a window at a
	// time if the window is a small one.
	piece := len(payload)
	if bits < 15 {
		piece = 1 << (bits - 1)
	}
	for rest := payload; len(rest) > 0; {
		n := min(piece, len(rest))
		if bits < 15 {
			before = before[max(0, len(before)-(1<<(bits-1))):]
		}
		// It writes into memory, so it cannot fail.
		_ = stateless.StatelessDeflate(&f.out, rest[:n], false, before)
		before, rest = rest[:n], rest[n:]
	}
	if past != nil {
		past.add(payload, min(bits, referenceBits))
	}
	if len(payload) == 0 {
		return append(dst, 0) // an empty block (RFC 7692 7.2.3.6)
	}
	return append(dst, bytes.TrimSuffix(f.out.Bytes(), tail[:4])...)
}

// An Inflater reads the compressed messages of one direction, for who looks on. It keeps
// the last 32 KiB, as most servers let each message refer to those before it; if they do
// not, that does no harm.
type Inflater struct {
	flater Flater
	past   Past
}

// inflate gives what a compressed message says; limit bounds it.
func (d *Inflater) inflate(payload []byte, limit int) ([]byte, error) {
	out, err := d.flater.Unpack(payload, &d.past, 15, limit)
	return bytes.Clone(out), err
}
