package reading

import (
	"bytes"
	"hash/maphash"

	"tidepull/internal/measure/mark"
)

// newest are the readings of the newest messages, by their bytes: the copies of a broadcast differ in nothing, and
// are read once. Only what means the same to everybody, and no more than that a message came, is kept.
type newest struct {
	seed  maphash.Seed
	slots []sameAs // none if the dialect asks more of each copy
	used  int      // of the slot to which the message at hand belongs; -1: it is none to be kept
}

type sameAs struct {
	text     []byte
	compared []byte
	m        Message
}

// Bounds: messages whose reading is kept, and how long they may be.
const (
	maxNewest  = 1 << 7
	maxSameLen = 1 << 16
)

// keepsNewest says whether the readings of this trial's messages can be kept: none of what is asked of a copy may
// depend on who gets it.
func (r *Reader) keepsNewest() {
	d := &r.t.Dialect
	if r.open != 0 || r.rules&decoded != 0 || d.Each != nil || r.t.Knowns != nil {
		return
	}
	for _, open := range r.feeds {
		if open {
			return
		}
	}
	r.newest = newest{seed: maphash.MakeSeed(), slots: make([]sameAs, maxNewest)}
}

// Same gives what a message means if one with the same bytes was read lately that holds one mark and is no more than
// that; nil if none was. Its fields are not in the scope. It is borrowed.
func (r *Reader) Same(text []byte, binary bool) *Message {
	n := &r.newest
	n.used = -1
	if n.slots == nil || len(text) > maxSameLen {
		return nil
	}
	n.used = int(maphash.Bytes(n.seed, text) % maxNewest)
	s := &n.slots[n.used]
	if !s.m.Marked || s.m.Binary != binary || !bytes.Equal(s.text, text) {
		return nil
	}
	r.m.Part, r.m.Binary, r.m.Read, r.m.Marked, r.m.Mark, r.m.marks = Part{text, nil}, binary, false, true, s.m.Mark,
		mark.Scanner{}
	r.m.meaning = s.m.meaning
	return &r.m
}

// keepSame keeps the reading of the message at hand, for which Same gave nothing, if there is nothing more to it than
// its mark.
func (r *Reader) keepSame(m *Message) {
	n := &r.newest
	if n.slots == nil || n.used < 0 || !m.Marked || m.Is&^Live != 0 || len(m.Feeds) > 0 {
		return
	}
	rest := m.marks
	if _, more := rest.Next(); more > 0 {
		return
	}
	s := &n.slots[n.used]
	s.text = append(s.text[:0], m.Text...)
	s.compared = append(s.compared[:0], m.Compared...)
	s.m = Message{Binary: m.Binary, Marked: true, Mark: m.Mark, meaning: meaning{Is: m.Is, Sum: m.Sum}}
	if m.Sum != 0 {
		s.m.Compared = s.compared
	}
	n.used = -1
}
