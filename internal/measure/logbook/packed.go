package logbook

import (
	"bytes"
	"compress/flate"
	"encoding/json"
	"fmt"
	"io"
)

// details are what of a second is large, and seldom looked at once it is some minutes old.
type details struct {
	Part     Part
	SentLate *Part `json:",omitempty"`
	Times    Times
}

// packed are the details of an entry in a quarter of the memory, and what of them is looked at all the time.
type packed struct {
	bytes     []byte
	lost, odd bool
	owed      int64
	sentLate  bool
}

// Packed is the entry with its details deflated (RFC 1951). The sum over seconds, and what Whole gives, is the same.
func (e *Entry) Packed() (*Entry, error) {
	if e.packed != nil {
		return e, nil
	}
	text, err := json.Marshal(details{e.Part, e.SentLate, e.Times})
	if err != nil {
		return nil, fmt.Errorf("second %d: %w", e.At, err)
	}
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, flate.DefaultCompression)
	if err == nil {
		_, err = w.Write(text)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("second %d: %w", e.At, err)
	}
	light := *e
	light.packed = &packed{bytes: bytes.Clone(b.Bytes()), owed: e.Owed(), sentLate: e.HasLate()}
	light.packed.lost, light.packed.odd = e.Wrong()
	light.Part, light.SentLate, light.Times = Part{Fit: e.Fit}, nil, Times{}
	return &light, nil
}

// Whole is the entry with its details.
func (e *Entry) Whole() (*Entry, error) {
	if e.packed == nil {
		return e, nil
	}
	text, err := io.ReadAll(flate.NewReader(bytes.NewReader(e.packed.bytes)))
	var d details
	if err == nil {
		err = json.Unmarshal(text, &d)
	}
	if err != nil {
		return nil, fmt.Errorf("second %d: %w", e.At, err)
	}
	whole := *e
	whole.packed, whole.Part, whole.SentLate, whole.Times = nil, d.Part, d.SentLate, d.Times
	return &whole, nil
}

// Wrong reports whether messages of the second were lost, and whether others came otherwise than they should.
func (e *Entry) Wrong() (lost, odd bool) {
	if e.packed != nil {
		return e.packed.lost, e.packed.odd
	}
	for i := range e.Cells {
		t := &e.Cells[i].Tally
		lost = lost || t.Lost > 0
		odd = odd || t.Late > 0 || t.Duplicate > 0 || t.Stray > 0 || t.Defects() > 0
	}
	return lost, odd
}

// Owed is how many deliveries were owed of the messages of the second, those that the tool itself sent late too.
func (e *Entry) Owed() (n int64) {
	if e.packed != nil {
		return e.packed.owed
	}
	for _, part := range []*Part{&e.Part, e.SentLate} {
		if part != nil {
			for i := range part.Cells {
				n += part.Cells[i].Tally.Owed
			}
		}
	}
	return n
}

// HasLate reports whether the tool itself sent messages of the second late.
func (e *Entry) HasLate() bool { return e.SentLate != nil || e.packed != nil && e.packed.sentLate }
