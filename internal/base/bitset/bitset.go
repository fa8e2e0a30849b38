// Package bitset is a set of small non-negative integers, one bit each.
package bitset

import "math/bits"

// Set holds integers from 0 up. The zero value is empty and ready. A Set is
// not safe for use by several goroutines.
type Set struct {
	words []uint64
	n     int
}

// Has reports whether i is in the set. Anything out of range is not.
func (s *Set) Has(i int) bool {
	w := i >> 6
	return i >= 0 && w < len(s.words) && s.words[w]&(1<<(i&63)) != 0
}

// Add puts i, which is not negative, into the set and reports whether it was
// new there.
func (s *Set) Add(i int) bool {
	w := i >> 6
	for w >= len(s.words) {
		s.words = append(s.words, 0)
	}
	bit := uint64(1) << (i & 63)
	if s.words[w]&bit != 0 {
		return false
	}
	s.words[w] |= bit
	s.n++
	return true
}

// Remove takes i out and reports whether it was there.
func (s *Set) Remove(i int) bool {
	if !s.Has(i) {
		return false
	}
	s.words[i>>6] &^= 1 << (i & 63)
	s.n--
	return true
}

// Len is the number of integers in the set.
func (s *Set) Len() int { return s.n }

// Words is how many words of 8 bytes the set takes.
func (s *Set) Words() int { return len(s.words) }

// Clear empties the set and keeps its memory.
func (s *Set) Clear() {
	clear(s.words)
	s.n = 0
}

// CopyFrom makes s equal to t, reusing the memory of s.
func (s *Set) CopyFrom(t *Set) {
	s.words = append(s.words[:0], t.words...)
	s.n = t.n
}

// Minus calls f, in rising order, with each integer that is in s but not in t.
func (s *Set) Minus(t *Set, f func(i int)) {
	for w, word := range s.words {
		if w < len(t.words) {
			word &^= t.words[w]
		}
		for word != 0 {
			b := bits.TrailingZeros64(word)
			word &^= 1 << b
			f(w<<6 | b)
		}
	}
}
