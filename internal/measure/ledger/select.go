package ledger

import "time"

// firstMedianLast returns the smallest, the middle (the ⌈n/2⌉-th) and the
// largest of v, which are ticks; it is not empty and is reordered.
func firstMedianLast(v []uint32) (first, median, last time.Duration) {
	low, high := v[0], v[0]
	for _, x := range v {
		low, high = min(low, x), max(high, x)
	}
	return fromTick(low), fromTick(nth(v, (len(v)-1)/2)), fromTick(high)
}

// nth returns the value that would stand at index k of v sorted (quickselect,
// Hoare's partition, middle of three).
func nth(v []uint32, k int) uint32 {
	lo, hi := 0, len(v)-1
	for lo < hi {
		a, b, c := v[lo], v[(lo+hi)/2], v[hi]
		pivot := max(min(a, b), min(max(a, b), c))
		i, j := lo, hi
		for i <= j {
			for v[i] < pivot {
				i++
			}
			for v[j] > pivot {
				j--
			}
			if i <= j {
				v[i], v[j] = v[j], v[i]
				i++
				j--
			}
		}
		switch {
		case k <= j:
			hi = j
		case k >= i:
			lo = i
		default:
			return v[k]
		}
	}
	return v[lo]
}
