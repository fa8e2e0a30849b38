package store

import (
	"bytes"
	"compress/flate"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"

	"tidepull/internal/measure/meter"
)

// Bounds on histograms in the store. Smaller ones would not shrink; no larger one is written (a histogram has some ten
// thousand counters).
const (
	leastPacked = 64
	mostPacked  = 4 << 20
)

// pack writes a histogram smaller: deflated (RFC 1951) behind a zero byte, with which no histogram begins that is not
// empty. A day of a thousand clients is mostly histograms.
func pack(h []byte) []byte {
	if len(h) < leastPacked {
		return h
	}
	p := packers.Get().(*packer)
	defer packers.Put(p)
	p.out.Reset()
	p.out.WriteByte(0)
	p.deflate.Reset(&p.out)
	_, err := p.deflate.Write(h)
	if err = errors.Join(err, p.deflate.Close()); err != nil || p.out.Len() >= len(h) {
		return h
	}
	return bytes.Clone(p.out.Bytes())
}

// A packer is a megabyte that is worth keeping for the next second.
type packer struct {
	out     bytes.Buffer
	deflate *flate.Writer
}

var packers = sync.Pool{New: func() any {
	p := &packer{}
	p.deflate, _ = flate.NewWriter(&p.out, flate.BestCompression) // an error is of levels that there are not
	return p
}}

// A packed histogram is unpacked when it is read: it implements sql.Scanner.
type packed meter.Packed

// Scan takes a histogram, deflated or not.
func (p *packed) Scan(column any) error {
	b, is := column.([]byte)
	switch {
	case column == nil:
		*p = nil
		return nil
	case !is:
		return fmt.Errorf("a histogram is a %T", column)
	case len(b) < 2 || b[0] != 0:
		*p = bytes.Clone(b) // the driver's memory is its own
		return nil
	}
	h, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(b[1:])), mostPacked+1))
	if err != nil || len(h) > mostPacked {
		return fmt.Errorf("a histogram cannot be unpacked: %w", errors.Join(err, io.ErrUnexpectedEOF))
	}
	*p = h
	return nil
}

// sparse is json without what is 0: most counts of a second are.
func (w *writer) sparse(v any) string {
	var all map[string]any
	d := json.NewDecoder(bytes.NewReader([]byte(w.json(v))))
	d.UseNumber()
	if err := d.Decode(&all); err != nil {
		if w.err == nil {
			w.err = err
		}
		return "{}"
	}
	withoutZeros(all)
	return w.json(all)
}

func withoutZeros(all map[string]any) {
	for name, v := range all {
		switch v := v.(type) {
		case map[string]any:
			if withoutZeros(v); len(v) == 0 {
				delete(all, name)
			}
		case json.Number:
			if v == "0" {
				delete(all, name)
			}
		case bool:
			if !v {
				delete(all, name)
			}
		case nil:
			delete(all, name)
		}
	}
}
