package ledger

import "tidepull/internal/base/queue"

// A stream is the messages of one share, or the ledger's own announcements, each
// numbered by itself. Messages of one instant may be said in another order than that of
// their numbers.
type stream struct {
	base    uint64                  // the place of the first of rows; those before it are settled
	rows    queue.Queue[*row]       // by place; gone if it is settled, nil if it has not been said yet
	settled queue.Queue[settledRow] // of the last that are settled, by place
	first   uint64                  // the place of the first of these
	words   int                     // of memory that they take
}

// gone stands for a row that is settled, among others that are not.
var gone = &row{}

// next is the place in its stream that the next message gets.
func (s *stream) next() uint64 { return s.base + uint64(s.rows.Len()) }

// open puts a row in its place; false if that is taken, or far ahead.
func (s *stream) open(place uint64, r *row) bool {
	const ahead = 1 << 20
	if place < s.base || place > s.next()+ahead {
		return false
	}
	for s.next() <= place {
		s.rows.Push(nil)
	}
	at := s.rows.At(int(place - s.base))
	if *at != nil {
		return false
	}
	*at = r
	return true
}

// settle moves a message to those that are settled.
func (s *stream) settle(place uint64, kept settledRow) {
	*s.rows.At(int(place - s.base)) = gone
	for s.rows.Len() > 0 && *s.rows.At(0) == gone {
		s.rows.Pop()
		s.base++
	}
	if place < s.first {
		return
	}
	for s.first+uint64(s.settled.Len()) <= place {
		s.settled.Push(settledRow{})
	}
	*s.settled.At(int(place - s.first)) = kept
	s.words += kept.got.Words() + len(kept.few)
}

// forget gives up the oldest of those that are settled.
func (s *stream) forget() settledRow {
	old := s.settled.Pop()
	s.first++
	s.words -= old.got.Words() + len(old.few)
	return old
}

// remembered gives what is known of a settled message, by its place; nil if it is
// forgotten.
func (s *stream) remembered(place uint64) *settledRow {
	if place < s.first || place >= s.first+uint64(s.settled.Len()) {
		return nil
	}
	return s.settled.At(int(place - s.first))
}

// Streams is how many number messages side by side in a run: its shares, and the ledger
// itself if servers announce who enters and leaves.
func Streams(shares int, announcements bool) int {
	if announcements {
		return shares + 1
	}
	return shares
}

// Number is the number of a message by its place, from 0, in its stream. No two messages
// of a run have the same.
func Number(place uint64, stream, streams int) uint64 { return place*uint64(streams) + uint64(stream) }

// StreamOf is the stream of a message: the share of its sender, or the number of
// shares for an announcement.
func (l *Ledger) StreamOf(number uint64) int { return int(number % uint64(len(l.streams))) }

// streamOf gives the stream of a message, and its place in it.
func (l *Ledger) streamOf(number uint64) (s *stream, place uint64) {
	return &l.streams[l.StreamOf(number)], number / uint64(len(l.streams))
}

// Next is the number that a share's next message gets.
func (l *Ledger) Next(share int) uint64 {
	return Number(l.streams[share].next(), share, len(l.streams))
}

// Knows reports whether there is or was a message of a number.
func (l *Ledger) Knows(number uint64) bool {
	s, place := l.streamOf(number)
	return place < s.next()
}

// rowOf gives the row of a message; nil if it is settled, or not said yet. Its number is
// known.
func (l *Ledger) rowOf(number uint64) *row {
	s, place := l.streamOf(number)
	if place < s.base {
		return nil
	}
	if r := *s.rows.At(int(place - s.base)); r != gone {
		return r
	}
	return nil
}
