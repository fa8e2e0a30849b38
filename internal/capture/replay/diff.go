package replay

import (
	"fmt"
	"slices"
	"time"
)

// A Heard is something that the server said, in the recording or in a replay.
type Heard struct {
	Shape  Shape
	Sample []byte
	Values []Value // in the recording: those that must be the same now
	// After is how long after the last deed of any client it came.
	After time.Duration
}

// Difference kinds.
const (
	Missing   = "did not come"
	Otherwise = "came otherwise"
	Order     = "came in another order"
	Later     = "came much later"
	More      = "came, but not in the recording"
	Failed    = "could not be done"
	Valued    = "says another value"
)

// A Difference is one thing that is not as it was recorded.
type Difference struct {
	Copy     int    `json:"copy"`
	Actor    int    `json:"client"`
	Kind     string `json:"kind"`
	What     string `json:"what"`
	Recorded string `json:"recorded,omitempty"`
	Now      string `json:"now,omitempty"`
}

// Lateness says what "much later" is: more than Factor times as long as in the
// recording, and more than Least longer.
type Lateness struct {
	Factor float64
	Least  time.Duration
}

// Compare holds what one actor heard now against what it heard in the
// recording. Things are matched by shape, in order if that is possible.
func Compare(recorded, now []Heard, late Lateness) (all []Difference) {
	inOrder := byValues(align(recorded, now), recorded, now)
	used := make([]bool, len(now))
	matched := make([]int, len(recorded))
	for i := range matched {
		matched[i] = -1
	}
	for _, pair := range inOrder {
		matched[pair[0]], used[pair[1]] = pair[1], true
	}
	instead := inPlaceOf(inOrder, recorded, now)
	for i := range recorded {
		if matched[i] < 0 { // the same somewhere else?
			if k := find(now, used, func(h *Heard) bool { return h.Shape == recorded[i].Shape }); k >= 0 {
				used[k] = true
				all = append(all, Difference{Kind: Order, What: recorded[i].Shape.String(),
					Recorded: show(recorded[i].Sample), Now: show(now[k].Sample)})
				continue
			}
			if k, ok := instead[i]; ok && !used[k] {
				used[k] = true
				if recorded[i].Shape.Kind != theEnd && alike(string(recorded[i].Sample), string(now[k].Sample)) {
					continue
				}
				what := recorded[i].Shape.String()
				all = append(all, Difference{Kind: Otherwise, What: what, Recorded: show(recorded[i].Sample),
					Now: show(now[k].Sample)})
				continue
			}
			if k := find(now, used, func(h *Heard) bool {
				return recorded[i].Shape.Kind != "" && h.Shape.Kind == recorded[i].Shape.Kind
			}); k >= 0 {
				used[k] = true
				all = append(all, Difference{Kind: Otherwise, What: recorded[i].Shape.Kind,
					Recorded: show(recorded[i].Sample), Now: show(now[k].Sample)})
				continue
			}
			all = append(all, Difference{Kind: Missing, What: recorded[i].Shape.String(),
				Recorded: show(recorded[i].Sample)})
			continue
		}
		then, is := recorded[i], now[matched[i]]
		if is.After > then.After+late.Least && float64(is.After) > late.Factor*float64(then.After) {
			all = append(all, Difference{Kind: Later, What: then.Shape.String(),
				Recorded: then.After.Round(time.Millisecond).String(), Now: is.After.Round(time.Millisecond).String()})
		}
		if v, said, wrong := wrongIn(then.Values, is.Sample); wrong {
			all = append(all, Difference{Kind: Valued, What: then.Shape.String() + ", " + shownPath(v.Path),
				Recorded: v.Says + " (" + v.Why + ")", Now: said})
		}
	}
	for k := range now {
		if !used[k] {
			all = append(all, Difference{Kind: More, What: now[k].Shape.String(), Now: show(now[k].Sample)})
		}
	}
	return all
}

// inPlaceOf pairs what did not come with what came between the same neighbours, one after
// the other, as many as there are of both, but for messages that say themselves that they
// are something else: one that has changed is one difference.
func inPlaceOf(pairs [][2]int, recorded, now []Heard) map[int]int {
	instead := map[int]int{}
	from := [2]int{}
	for _, to := range append(slices.Clone(pairs), [2]int{len(recorded), len(now)}) {
		for i, k := from[0], from[1]; i < to[0] && k < to[1]; i, k = i+1, k+1 {
			if then, is := recorded[i].Shape.Kind, now[k].Shape.Kind; then == is || then == "" || is == "" {
				instead[i] = k
			}
		}
		from = [2]int{to[0] + 1, to[1] + 1}
	}
	return instead
}

func find(now []Heard, used []bool, is func(*Heard) bool) int {
	for k := range now {
		if !used[k] && is(&now[k]) {
			return k
		}
	}
	return -1
}

// maxAligned bounds the table that alignment needs; longer parts are matched
// in pieces.
const maxAligned = 1500

// align pairs equal shapes in order: a longest common subsequence.
func align(a, b []Heard) (pairs [][2]int) {
	for ai, bi := 0, 0; ai < len(a) && bi < len(b); {
		ae, be := min(len(a), ai+maxAligned), min(len(b), bi+maxAligned)
		part := alignPart(a[ai:ae], b[bi:be])
		for _, p := range part {
			pairs = append(pairs, [2]int{ai + p[0], bi + p[1]})
		}
		ai, bi = ae, be
	}
	return pairs
}

func alignPart(a, b []Heard) (pairs [][2]int) {
	n, m := len(a), len(b)
	table := make([][]int16, n+1)
	for i := range table {
		table[i] = make([]int16, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		for k := m - 1; k >= 0; k-- {
			if a[i].Shape == b[k].Shape {
				table[i][k] = table[i+1][k+1] + 1
			} else {
				table[i][k] = max(table[i+1][k], table[i][k+1])
			}
		}
	}
	for i, k := 0, 0; i < n && k < m; {
		switch {
		case a[i].Shape == b[k].Shape:
			pairs = append(pairs, [2]int{i, k})
			i, k = i+1, k+1
		case table[i+1][k] >= table[i][k+1]:
			i++
		default:
			k++
		}
	}
	return pairs
}

func show(b []byte) string {
	const most = 300
	if len(b) > most {
		return fmt.Sprintf("%s... (%d bytes)", b[:most], len(b))
	}
	return string(b)
}
