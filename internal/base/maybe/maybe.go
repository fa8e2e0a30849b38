// Package maybe has whole numbers that may be missing.
package maybe

// An Index is a whole number from 0 on, or none. It takes the room of its type
// alone, and its zero value is none.
type Index[T ~uint64 | ~int32 | ~uint32] struct{ above T }

// Of gives the index n.
func Of[T ~uint64 | ~int32 | ~uint32](n T) Index[T] { return Index[T]{n + 1} }

// Get gives the number; ok is false if there is none.
func (i Index[T]) Get() (n T, ok bool) { return i.above - 1, i.above != 0 }

// Is reports whether there is a number.
func (i Index[T]) Is() bool { return i.above != 0 }
