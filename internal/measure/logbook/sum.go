package logbook

import "unsafe"

// addUp adds counters to others, field by field. All that a type of counters has are whole numbers
// of 64 bits, which a test sees to: a new one is in every sum once it is declared.
func addUp[T any](into, more *T) {
	n := unsafe.Sizeof(*into) / unsafe.Sizeof(int64(0))
	all := unsafe.Slice((*int64)(unsafe.Pointer(into)), n)
	for i, v := range unsafe.Slice((*int64)(unsafe.Pointer(more)), n) {
		all[i] += v
	}
}

func (c *Counts) add(d *Counts) {
	cycle, worst := max(c.Pulse.Cycle, d.Pulse.Cycle), max(c.Load.Worst, d.Load.Worst)
	addUp(c, d)
	c.Pulse.Cycle, c.Load.Worst = cycle, worst
}
