package ledger

import "slices"

// maxFew is how many recipients of a narrow row stand in a list; what leaks to
// more goes into the set.
const maxFew = 32

// add books that a message came to a slot; false means that it had come there
// already.
func (r *row) add(slot int) bool {
	if !r.narrow {
		return r.got.Add(slot)
	}
	if r.has(slot) {
		return false
	}
	if len(r.few) < maxFew {
		r.few = append(r.few, int32(slot))
		return true
	}
	return r.got.Add(slot)
}

// has reports whether a message came to a slot.
func (r *row) has(slot int) bool {
	return r.narrow && slices.Contains(r.few, int32(slot)) || r.got.Has(slot)
}

// setLatency books how long an owed delivery took, in ticks.
func (r *row) setLatency(slot int, ticks uint32) {
	if r.narrow {
		r.alone = ticks
		return
	}
	r.latency[slot] = ticks
}

// latencyOf is how long an owed delivery took, in ticks.
func (r *row) latencyOf(slot int) uint32 {
	switch {
	case r.narrow:
		return r.alone
	case slot >= len(r.latency):
		return 0
	}
	return r.latency[slot]
}

// loosen books that an owed delivery may have come sooner, and how soon, in ticks.
func (r *row) loosen(slot int, least uint32) {
	if r.narrow {
		r.aloneLeast = least
		return
	}
	if len(r.least) == 0 {
		r.least = zeroed(r.least, len(r.latency))
	}
	r.least[slot] = least
}
