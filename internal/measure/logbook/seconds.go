package logbook

import "sort"

// Seconds are the seconds of a run in their order, from the first: each is an entry of its own, or some that follow
// each other are one (Coarsen).
type Seconds []*Entry

// Count is how many seconds there are.
func (s Seconds) Count() int {
	if len(s) == 0 {
		return 0
	}
	last := s[len(s)-1]
	return last.At + last.Seconds()
}

// Of is the entry that holds a second; nil if there is none.
func (s Seconds) Of(second int) *Entry {
	if i := s.from(second); second >= 0 && i < len(s) && s[i].At <= second {
		return s[i]
	}
	return nil
}

// Between gives the entries that hold the seconds from one up to another.
func (s Seconds) Between(from, to int) Seconds {
	from = max(0, from)
	if to <= from {
		return nil
	}
	first := s.from(from)
	last := first + sort.Search(len(s)-first, func(i int) bool { return s[first+i].At >= to })
	return s[first:last]
}

// from is the place of the first entry that ends behind the beginning of a second.
func (s Seconds) from(second int) int {
	if second < len(s) && second >= 0 && s[second].At == second { // none before it is merged
		return second
	}
	return sort.Search(len(s), func(i int) bool { return s[i].At+s[i].Seconds() > second })
}

// Seconds is how many seconds the entry holds.
func (e *Entry) Seconds() int { return max(1, e.Merged) }

// Overloaded is in how many of them the tool could not do its work in time.
func (e *Entry) Overloaded() int {
	if e.Merged == 0 && e.Health.Overload != 0 {
		return 1
	}
	return e.MergedOverloaded
}

// Each is what a count of the entry comes to for each of its seconds, rounded up so that something is not nothing.
func (e *Entry) Each(count int64) int64 {
	n := int64(e.Seconds())
	return (count + n - 1) / n
}
