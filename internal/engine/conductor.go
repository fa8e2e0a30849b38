package engine

import (
	"slices"

	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// A conductor knows what takes all shares to know: who waits at which barrier, and
// whether the target can be reached at all. It lives with the first share; what it
// hears and says are notes.
type conductor struct {
	trial    *trial.Trial
	crews    []uint16                    // by client
	first    []ledger.Client             // of each crew
	coming   int                         // clients that come
	comes    []bool                      // by client: it is there when most are planned to be
	gone     []bool                      // by client: it has ended
	expected []int                       // clients of each crew that come
	ended    []int                       // clients of each crew that come, and ended early
	groups   map[int64]int               // how many of a crew's group come, less those that ended
	barriers []map[int32][]ledger.Client // who waits, by barrier, and then by whom it is among
	waits    map[ledger.Client]int32     // by who waits: at which barrier

	opened  bool // some connection was
	refused int
	over    bool // it has been said that nothing can be reached
}

func newConductor(t *trial.Trial) *conductor {
	c := &conductor{trial: t, ended: make([]int, len(t.Crews)), groups: map[int64]int{},
		waits: map[ledger.Client]int32{}}
	for i, crew := range t.Crews {
		c.first = append(c.first, ledger.Client(len(c.crews)))
		for range crew.Clients {
			c.crews = append(c.crews, uint16(i))
		}
	}
	// Who comes follows from the order in which crews set out side by side: a crew's own part of a tide
	// that is not high would be rounded otherwise.
	c.gone = make([]bool, len(c.crews))
	c.comes, c.expected = make([]bool, len(c.crews)), make([]int, len(t.Crews))
	for _, b := range tideGroups(t) {
		for _, id := range b.order[:b.tide.Most(len(b.order))] {
			c.comes[id] = true
			c.coming++
			c.expected[c.crews[id]]++
			c.groups[c.group(id)]++
		}
	}
	for range t.Barriers {
		c.barriers = append(c.barriers, map[int32][]ledger.Client{})
	}
	return c
}

// giveUpAfter is how many refusals, before any connection was agreed on, mean that
// the target cannot be reached.
const giveUpAfter = 20

// take takes a note, and appends to dst what follows from it.
func (c *conductor) take(dst []fact.Note, n *fact.Note) []fact.Note {
	from := len(dst)
	dst = c.follow(dst, n)
	for i := from; i < len(dst); i++ {
		dst[i].At = n.At
	}
	return dst
}

// follow is take, but for when that is.
func (c *conductor) follow(dst []fact.Note, n *fact.Note) []fact.Note {
	switch n.Kind {
	case fact.WaitsAt:
		b, key := &c.trial.Barriers[n.Which], c.among(n.Client, &c.trial.Barriers[n.Which])
		waiting := c.barriers[n.Which]
		waiting[key] = append(waiting[key], n.Client)
		c.waits[n.Client] = n.Which
		return c.open(dst, n.Which, key, b, n.Client)
	case fact.WaitsNot:
		c.leave(n.Client)
	case fact.Ended:
		c.leave(n.Client)
		if !c.comes[n.Client] { // nobody has counted on it
			break
		}
		gone := n.By > 0
		if c.gone[n.Client] == gone {
			break // of one whose process has ended it is told once more
		}
		c.gone[n.Client] = gone
		c.ended[c.crews[n.Client]] += int(n.By)
		c.groups[c.group(n.Client)] -= int(n.By)
		if n.By < 0 {
			break
		}
		for i := range c.barriers {
			b := &c.trial.Barriers[i]
			dst = c.open(dst, int32(i), c.among(n.Client, b), b, n.Client)
		}
	case fact.ConnOpen:
		c.opened = true
	case fact.ConnsFail:
		c.refused += int(n.By)
		if !c.opened && !c.over && c.refused >= min(giveUpAfter, c.coming) {
			c.over = true
			dst = append(dst, fact.Note{At: n.At, Kind: fact.CannotBe, Client: n.Client})
		}
	}
	return dst
}

// place is a client's number in its crew.
func (c *conductor) place(id ledger.Client) int32 { return id - c.first[c.crews[id]] }

func (c *conductor) groupSize(crew uint16) int32 { return int32(max(1, c.trial.Crews[crew].Groups)) }

func (c *conductor) group(id ledger.Client) int64 {
	crew := c.crews[id]
	return int64(crew)<<32 | int64(c.place(id)/c.groupSize(crew))
}

// among says with whom a client waits at a barrier: clients with the same number wait
// for each other.
func (c *conductor) among(id ledger.Client, b *trial.Barrier) int32 {
	crew := c.crews[id]
	switch b.Scope {
	case trial.AmongCrew:
		return int32(crew)
	case trial.AmongGroup:
		return int32(crew)<<20 | c.place(id)/c.groupSize(crew)
	}
	return 0
}

// open lets those who wait go on once all are there who can still come; like is one of
// those who could.
func (c *conductor) open(dst []fact.Note, barrier, key int32, b *trial.Barrier, like ledger.Client) []fact.Note {
	need, crew := 0, c.crews[like]
	switch b.Scope {
	case trial.AmongAll:
		for _, i := range b.Crews {
			need += c.expected[i] - c.ended[i]
		}
	case trial.AmongCrew:
		need = c.expected[crew] - c.ended[crew]
	case trial.AmongGroup:
		need = c.groups[c.group(like)]
	}
	waiting := c.barriers[barrier][key]
	if len(waiting) == 0 || len(waiting) < need {
		return dst
	}
	delete(c.barriers[barrier], key)
	for _, id := range waiting {
		delete(c.waits, id)
		dst = append(dst, fact.Note{Kind: fact.MayGo, Client: id, Which: barrier})
	}
	return dst
}

// leave takes a client away from where it waits.
func (c *conductor) leave(id ledger.Client) {
	barrier, does := c.waits[id]
	if !does {
		return
	}
	delete(c.waits, id)
	key := c.among(id, &c.trial.Barriers[barrier])
	waiting := c.barriers[barrier][key]
	if at := slices.Index(waiting, id); at >= 0 {
		c.barriers[barrier][key] = slices.Delete(waiting, at, at+1)
	}
}
