package ws

import (
	"bytes"
	"compress/flate"
	"errors"
	"io"
)

// An Inflater reads the compressed messages of one direction (RFC 7692 7.2.2).
// The zero value is ready. It keeps the last 32 KiB, as most servers let each
// message refer to those before it; if they do not, that does no harm.
type Inflater struct {
	r    io.ReadCloser
	past []byte
}

// window is how far back a compressed message may refer.
const window = 32 << 10

// inflate gives what a compressed message says; limit bounds it.
func (d *Inflater) inflate(payload []byte, limit int) ([]byte, error) {
	// The tail that senders leave out, and an empty last block.
	src := io.MultiReader(bytes.NewReader(payload), bytes.NewReader([]byte{0, 0, 0xff, 0xff, 1, 0, 0, 0xff, 0xff}))
	if d.r == nil {
		d.r = flate.NewReaderDict(src, nil)
	} else if err := d.r.(flate.Resetter).Reset(src, d.past); err != nil {
		return nil, err
	}
	out, err := io.ReadAll(io.LimitReader(d.r, int64(limit)+1))
	if err != nil {
		return nil, err
	}
	if len(out) > limit {
		return nil, errors.New("the message is larger than the limit")
	}
	d.past = append(d.past, out...)
	if len(d.past) > window {
		d.past = append([]byte(nil), d.past[len(d.past)-window:]...)
	}
	return out, nil
}
