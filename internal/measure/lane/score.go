package lane

import (
	"cmp"
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
)

// MaxLanes is how many clients can be set side by side.
const MaxLanes = 8

// A Filter says which records are shown.
type Filter uint8

// The parts of a Filter.
const (
	Messages   Filter = 1 << iota // said, got, lost, heard
	Membership                    // coming, entering, leaving, going
	Beats
	Checks // expectations and other checks, requests
	Odd    // only what went wrong, of all kinds
	Whole  = Messages | Membership | Beats | Checks
)

// Shows reports whether a record passes the filter.
func (f Filter) Shows(r *Record) bool {
	if f == Odd {
		return r.Odd()
	}
	switch r.What {
	case Said, Got, Heard, Lost:
		return f&Messages != 0
	case Beat, Ignored:
		return f&Beats != 0
	case Held, Failed, Requested, Answered:
		return f&Checks != 0
	}
	return f&Membership != 0
}

// State is how a client stands.
type State uint8

// The states.
const (
	Away State = iota
	Connected
	Inside // of a room
)

// A Row is one thing between the clients that are set side by side.
type Row struct {
	Rec    Record
	Lane   int             // that the record is of
	From   int             // of Got and Lost: the sender's lane; -1: it is not shown
	States [MaxLanes]State // after it
}

// Arrange sets clients side by side: what happened to them within a time, in
// its order. records are in any order; to 0 means to the end.
func Arrange(records []Record, clients []ledger.Client, f Filter, from, to time.Duration) []Row {
	at := map[ledger.Client]int{}
	for i, c := range clients[:min(len(clients), MaxLanes)] {
		at[c] = i
	}
	var mine []Record
	for _, r := range records {
		if _, shown := at[r.Client]; shown {
			mine = append(mine, r)
		}
	}
	slices.SortStableFunc(mine, func(a, b Record) int {
		return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(rank(a.What), rank(b.What)), cmp.Compare(a.Client, b.Client),
			cmp.Compare(a.Number, b.Number), cmp.Compare(a.Fate, b.Fate))
	})
	var rows []Row
	var states [MaxLanes]State
	known := [MaxLanes]bool{}
	for i := range mine {
		r := &mine[i]
		n := at[r.Client]
		if !known[n] {
			known[n] = true
			if r.What != SetOut && r.What != Opened {
				states[n] = Inside // it is met in the middle of its life
			}
		}
		states[n] = after(states[n], r)
		if r.At < from || to > 0 && r.At >= to || !f.Shows(r) {
			continue
		}
		sender := -1
		if r.What == Got || r.What == Lost {
			if k, shown := at[r.Peer]; shown {
				sender = k
			}
		}
		rows = append(rows, Row{Rec: *r, Lane: n, From: sender, States: states})
	}
	return rows
}

// rank puts what causes something before it, if both have the same time.
func rank(w Happening) int {
	switch w {
	case SetOut, Opened:
		return 0
	case Said, Requested:
		return 1
	}
	return 2
}

func after(s State, r *Record) State {
	switch r.What {
	case Opened:
		return Connected
	case Entered:
		return Inside
	case Left:
		return Connected
	case Closed, Broke, Refused, Evicted:
		return Away
	}
	return s
}

// Busy picks the clients with the most kept.
func Busy(records []Record, most int) []ledger.Client {
	n := map[ledger.Client]int{}
	for i := range records {
		n[records[i].Client]++
	}
	return first(n, most)
}

func first(counts map[ledger.Client]int, most int) []ledger.Client {
	all := make([]ledger.Client, 0, len(counts))
	for c := range counts {
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b ledger.Client) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	all = all[:min(most, len(all))]
	slices.Sort(all)
	return all
}

// In picks clients that were in a room, those with the most kept.
func In(records []Record, room ledger.Room, most int) []ledger.Client {
	n := map[ledger.Client]int{}
	for i := range records {
		if r := &records[i]; r.Room == room {
			n[r.Client]++
		}
	}
	return first(n, most)
}

// Odds lists what went wrong, by time.
func Odds(records []Record) (odd []Record) {
	for i := range records {
		if records[i].Odd() {
			odd = append(odd, records[i])
		}
	}
	slices.SortFunc(odd, func(a, b Record) int {
		return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Client, b.Client), cmp.Compare(a.What, b.What),
			cmp.Compare(a.Number, b.Number))
	})
	return odd
}

// Around picks the clients concerned by one thing that went wrong: who it
// happened to, whose message it was, to whom else it happened, and then those
// who got the message as they should, and others of the room at that time.
func Around(records []Record, odd Record, most int) []ledger.Client {
	weight := map[ledger.Client]int{odd.Client: 1 << 20}
	message := odd.What == Got || odd.What == Lost
	if message && odd.Peer >= 0 {
		weight[odd.Peer] = 1 << 20
	}
	for i := range records {
		r := &records[i]
		near := (r.At - odd.At).Abs() < around
		switch {
		case message && r.Number == odd.Number && (r.What == Got || r.What == Lost) && r.Odd():
			weight[r.Client] += 1 << 14
		case message && r.Number == odd.Number && r.What == Got:
			weight[r.Client] += 1 << 8
		case near && odd.Room >= 0 && r.Room == odd.Room && (r.What == Got || r.What == Said):
			weight[r.Client]++
		}
	}
	return first(weight, most)
}
