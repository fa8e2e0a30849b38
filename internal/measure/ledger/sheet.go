package ledger

import "tidepull/internal/base/maybe"

// A Sheet is the account of the messages that were due in one second.
type Sheet struct {
	Second  int   // of the run; the ledger does not use it
	Own     bool  // it is of messages that the tool itself sent late; the ledger does not use it
	Foreign int64 // arrivals in that second with a mark of another run
	crews   int
	groups  []maybe.Index[int32] // by room and kind: the number of its group of cells
	cells   []Tally              // crews cells a group
	keys    []Cell               // by group; the crew is not set
	live    int                  // rows that still book here
}

// A Cell says what a Tally is about.
type Cell struct {
	Room Room
	Crew uint16
	Kind Kind
}

// Settled reports whether no more rows will book on this sheet.
func (s *Sheet) Settled() bool { return s.live == 0 }

// Each calls f with every cell in which anything was counted.
func (s *Sheet) Each(f func(Cell, *Tally)) {
	for i := range s.cells {
		if s.cells[i] != (Tally{}) {
			key := s.keys[i/s.crews]
			key.Crew = uint16(i % s.crews)
			f(key, &s.cells[i])
		}
	}
}

// group returns the index of the first of the cells of a room and kind.
func (s *Sheet) group(r Room, k Kind, crews int) int {
	at := int(r)*int(NumKinds) + int(k)
	for at >= len(s.groups) {
		s.groups = append(s.groups, maybe.Index[int32]{})
	}
	group, ok := s.groups[at].Get()
	if !ok {
		s.crews = crews
		s.keys = append(s.keys, Cell{Room: r, Kind: k})
		group = int32(len(s.keys)) - 1
		s.groups[at] = maybe.Of(group)
		for range crews {
			s.cells = append(s.cells, Tally{})
		}
	}
	return int(group) * crews
}
