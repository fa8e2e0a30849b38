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

// post adds a note and wakes the share up, if it is to act on it at once.
func (m *mailbox) post(urgent bool, note fact.Note) {
	m.mu.Lock()
	m.notes = append(m.notes, note)
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

// A slot holds what a share has handed over and the account has not taken, if several
// shares do so side by side.
type slot struct {
	mu    sync.Mutex
	batch fact.Batch
	full  bool
}

// put hands a batch over, and returns how many facts wait now; the batch's log is empty
// afterwards.
func (s *slot) put(batch *fact.Batch) (waiting int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.batch.TakeOver(&batch.Log)
	s.batch.UpTo, s.batch.Ended, s.batch.Lost, s.full = batch.UpTo, batch.Ended, batch.Lost, true
	s.batch.Off = max(s.batch.Off, batch.Off)
	if p := batch.Part; p != nil {
		if was := s.batch.Part; was != nil { // the account has not seen it yet
			p.Closed = append(was.Closed, p.Closed...)
		}
		s.batch.Part = p
	}
	return len(s.batch.Facts)
}

// take gives what was handed over, in place of an empty batch.
func (s *slot) take(empty *fact.Batch) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.full {
		return false
	}
	*empty, s.batch = s.batch, fact.Batch{Log: empty.Log}
	s.full = false
	return true
}
