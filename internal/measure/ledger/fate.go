package ledger

// Fate is what became of one delivery.
type Fate uint8

// The fates. An arrival has one of Delivered to Foreign; Lost and Excused are
// for what did not arrive.
const (
	Delivered Fate = iota // owed and here in time
	Late                  // owed and here after Config.Prompt
	CaughtUp              // owed, said in its recipient's absence, and here since it is back
	Duplicate             // here again
	Stray                 // should not have come here
	Allowed               // neither owed nor wrong: membership at the edge
	Past                  // history, given to who enters
	Overdue               // owed, but here only after it was settled as lost or excused
	Foreign               // its mark is not of this run
	Lost                  // owed and did not come, though its recipient was there
	Excused               // owed, but its recipient left or was disconnected in the meantime
	// The defects come on top of another fate.
	Reordered // it came after a later one of its sender
	Disagreed // it came after one that others got after it
	Altered   // its payload is not what was said
	NumFates
)

// Severity says how bad a fate is.
type Severity uint8

// The severities, from the worst.
const (
	Missing   Severity = iota // it did not come
	Wrong                     // it came, and should not have, or not so
	Slow                      // it came too late
	Tolerated                 // nobody is to blame
	Fine
	numSeverities
)

// sums says into which sums a fate's counter goes.
type sums uint8

const (
	settles sums = 1 << iota // it is the end of what was owed
	arrives                  // it is an arrival
	defect                   // it comes on top of another fate
)

// fates is all that is to be known of each fate, in one place: a new one has a
// constant, a counter in Tally, and a line here.
var fates = [NumFates]struct {
	name     string
	counter  func(*Tally) *int64 // nil: it is counted elsewhere
	severity Severity
	sums     sums
	why      string
}{
	Delivered: {"delivered", func(t *Tally) *int64 { return &t.Delivered }, Fine, settles | arrives, ""},
	Late:      {"late", func(t *Tally) *int64 { return &t.Late }, Slow, settles | arrives, "after the promised time"},
	CaughtUp: {"caught up", func(t *Tally) *int64 { return &t.CaughtUp }, Tolerated, settles | arrives,
		"it was said while the connection was broken, and came after that"},
	Duplicate: {"duplicate", func(t *Tally) *int64 { return &t.Duplicate }, Wrong, arrives, "had it already"},
	Stray:     {"stray", func(t *Tally) *int64 { return &t.Stray }, Wrong, arrives, "was not in the audience"},
	Allowed: {"allowed", func(t *Tally) *int64 { return &t.Allowed }, Tolerated, arrives,
		"was just entering or leaving: not owed, and not wrong"},
	Past:    {"past", func(t *Tally) *int64 { return &t.Past }, Tolerated, arrives, ""},
	Overdue: {"overdue", func(t *Tally) *int64 { return &t.Overdue }, Wrong, arrives, ""},
	Foreign: {"foreign", nil, Wrong, 0, ""},
	Lost: {"lost", func(t *Tally) *int64 { return &t.Lost }, Missing, settles,
		"was a member when it was said and stayed, and it did not come within the grace time"},
	Excused: {"excused", func(t *Tally) *int64 { return &t.Excused }, Tolerated, settles,
		"left or was cut off before it could be expected, went down with its sender, or the tool was too far " +
			"behind to tell"},
	Reordered: {"reordered", func(t *Tally) *int64 { return &t.Reordered }, Wrong, defect,
		"came after a later message of its sender"},
	Disagreed: {"disagreed", func(t *Tally) *int64 { return &t.Disagreed }, Wrong, defect,
		"came after one that others got after it"},
	Altered: {"altered", func(t *Tally) *int64 { return &t.Altered }, Wrong, defect,
		"what it says is not what was said"},
}

func (f Fate) String() string { return fates[f].name }

// Title is the fate's name for people.
func (f Fate) Title() string {
	if f == Past {
		return "history" // which figures, the store and summaries know as past
	}
	return f.String()
}

// Severity says how bad the fate is.
func (f Fate) Severity() Severity { return fates[f].severity }

// Why says what a fate means, in words for who looks at one delivery.
func (f Fate) Why() string { return fates[f].why }

// Settles reports whether the fate is the end of what was owed.
func (f Fate) Settles() bool { return fates[f].sums&settles != 0 }

// Defect reports whether the fate comes on top of another one.
func (f Fate) Defect() bool { return fates[f].sums&defect != 0 }

// Fates are those that a Tally counts, in the order in which they are shown: what
// settles first.
var Fates = func() (all []Fate) {
	for _, first := range []bool{true, false} {
		for f := range NumFates {
			if fates[f].counter != nil && f.Settles() == first {
				all = append(all, f)
			}
		}
	}
	return all
}()

// A Tally counts deliveries by their fates. Owed is the sum of Delivered, Late,
// CaughtUp, Lost and Excused once everything is settled.
type Tally struct {
	Said                                     int64 // messages sent by clients of the crew
	Owed                                     int64
	Delivered, Late, CaughtUp                int64
	Duplicate, Stray, Allowed, Past, Overdue int64
	Lost, Excused                            int64
	Reordered, Disagreed, Altered            int64 // on top of the others
	MaybeLate                                int64 // of Late: those that may have been in time, see Arrival.Since
	// Overtaken are those of Lost that others had, and of which the recipient got something in the room that was
	// said later: whatever else was slow, the server had come to them and left this one out.
	Overtaken int64
}

// Of is the counter of a fate; Foreign has none.
func (t *Tally) Of(f Fate) *int64 { return fates[f].counter(t) }

func (t *Tally) sum(of sums) (n int64) {
	for f := range fates {
		if fates[f].sums&of != 0 {
			n += *fates[f].counter(t)
		}
	}
	return n
}

// Open is what is owed and not settled yet.
func (t *Tally) Open() int64 { return t.Owed - t.sum(settles) }

// Defects counts what came otherwise than it should: reordered, out of the
// order of the others, altered.
func (t *Tally) Defects() int64 { return t.sum(defect) }

// Arrivals is everything that came.
func (t *Tally) Arrivals() int64 { return t.sum(arrives) }

// Add adds u to t.
func (t *Tally) Add(u *Tally) {
	t.Said += u.Said
	t.Owed += u.Owed
	t.MaybeLate += u.MaybeLate
	t.Overtaken += u.Overtaken
	for f := range fates {
		if count := fates[f].counter; count != nil {
			*count(t) += *count(u)
		}
	}
}
