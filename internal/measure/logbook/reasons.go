package logbook

// Reasons count why something went wrong, by the reason in words. Servers have a say in
// these: there is a bound to how many are told apart.
type Reasons struct{ counts map[string]int }

const (
	maxReasons = 50
	// otherReasons stands for those beyond maxReasons.
	otherReasons = "other reasons"
)

// Count counts a reason n times.
func (r *Reasons) Count(reason string, n int) {
	if r.counts == nil {
		r.counts = map[string]int{}
	}
	if _, known := r.counts[reason]; !known && len(r.counts) >= maxReasons {
		reason = otherReasons
	}
	r.counts[reason] += n
}

// Of is how often a reason was counted.
func (r *Reasons) Of(reason string) int { return r.counts[reason] }

// All gives a copy.
func (r *Reasons) All() map[string]int {
	all := make(map[string]int, len(r.counts))
	for reason, n := range r.counts {
		all[reason] = n
	}
	return all
}

// Add counts those of another list.
func (r *Reasons) Add(other map[string]int) {
	for reason, n := range other {
		r.Count(reason, n)
	}
}
