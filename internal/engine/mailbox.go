package engine

import (
	"sync"
	"sync/atomic"

	"tidepull/internal/measure/fact"
)

// A mailbox holds notes for a share until it takes them. It is bounded by what shares
// do: each note is about something that happened to a client.
type mailbox struct {
	mu    sync.Mutex
	notes []fact.Note
	some  atomic.Bool // there are notes
	wake  func()
}

// post adds notes and wakes the share up, if it is to act on them at once.
func (m *mailbox) post(urgent bool, notes ...fact.Note) {
	m.mu.Lock()
	m.notes = append(m.notes, notes...)
	m.some.Store(true)
	m.mu.Unlock()
	if urgent {
		m.wake()
	}
}

// take gives the notes, and puts the memory of read ones in their place.
func (m *mailbox) take(read []fact.Note) []fact.Note {
	m.mu.Lock()
	defer m.mu.Unlock()
	notes := m.notes
	m.notes = read[:0]
	m.some.Store(false)
	return notes
}

// An inbox takes the batches of the shares to an account that has a thread of its own.
type inbox struct {
	mu     sync.Mutex
	room   sync.Cond // there is, again
	slots  []slot    // by share
	signal chan struct{}
	ended  bool // nobody takes any more
}

// A slot holds what one share has handed over and the account has not taken.
type slot struct {
	batch fact.Batch
	full  bool
}

// maxWaiting bounds the facts of one share that wait for the account; a share that is
// that far ahead waits for it, and counts as full.
const maxWaiting = 1 << 18

func newInbox(shares int) *inbox {
	b := &inbox{slots: make([]slot, shares), signal: make(chan struct{}, 1)}
	b.room.L = &b.mu
	return b
}

// put hands a batch over; its log is empty afterwards.
func (b *inbox) put(share int, batch *fact.Batch) {
	b.mu.Lock()
	s := &b.slots[share]
	for len(s.batch.Facts) > maxWaiting && !b.ended {
		b.room.Wait()
	}
	if len(s.batch.Facts) == 0 {
		s.batch.Log, batch.Log = batch.Log, s.batch.Log
	} else {
		s.batch.Append(&batch.Log)
	}
	s.batch.UpTo, s.batch.Ended, s.full = batch.UpTo, batch.Ended, true
	if p := batch.Part; p != nil {
		if was := s.batch.Part; was != nil { // the account has not seen it yet
			p.Closed = append(was.Closed, p.Closed...)
		}
		s.batch.Part = p
	}
	b.mu.Unlock()
	batch.Clear()
	select {
	case b.signal <- struct{}{}:
	default:
	}
}

// take gives what a share has handed over, in place of an empty batch.
func (b *inbox) take(share int, empty *fact.Batch) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := &b.slots[share]
	if !s.full {
		return false
	}
	*empty, s.batch = s.batch, fact.Batch{Log: empty.Log}
	s.full = false
	b.room.Broadcast()
	return true
}

// end lets everybody go on who waits: nobody takes any more.
func (b *inbox) end() {
	b.mu.Lock()
	b.ended = true
	b.mu.Unlock()
	b.room.Broadcast()
}
