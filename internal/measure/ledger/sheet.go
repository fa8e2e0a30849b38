package ledger

// A Tally counts what became of the messages of one room, crew and kind. The
// crew is the recipients', in Said alone the sender's.
//
//	Owed = Delivered + Late + Lost + Excused + Open()
type Tally struct {
	Said, Owed                                 int64
	Delivered, Late, Duplicate, Stray, Allowed int64
	Past, Overdue                              int64
	Lost, Excused                              int64
	Reordered, Disagreed, Altered              int64 // on top of the others
}

// of returns the counter of a fate.
func (t *Tally) of(f Fate) *int64 {
	switch f {
	case Delivered:
		return &t.Delivered
	case Late:
		return &t.Late
	case Duplicate:
		return &t.Duplicate
	case Stray:
		return &t.Stray
	case Allowed:
		return &t.Allowed
	case Past:
		return &t.Past
	case Overdue:
		return &t.Overdue
	case Lost:
		return &t.Lost
	case Reordered:
		return &t.Reordered
	case Disagreed:
		return &t.Disagreed
	case Altered:
		return &t.Altered
	}
	return &t.Excused
}

// Open is what is owed and not settled yet.
func (t *Tally) Open() int64 { return t.Owed - t.Delivered - t.Late - t.Lost - t.Excused }

// Defects counts what came otherwise than it should: reordered, out of the
// order of the others, altered.
func (t *Tally) Defects() int64 { return t.Reordered + t.Disagreed + t.Altered }

// Arrivals is everything that came.
func (t *Tally) Arrivals() int64 {
	return t.Delivered + t.Late + t.Duplicate + t.Stray + t.Allowed + t.Past + t.Overdue
}

// Add adds u to t.
func (t *Tally) Add(u *Tally) {
	t.Said += u.Said
	t.Owed += u.Owed
	t.Delivered += u.Delivered
	t.Late += u.Late
	t.Duplicate += u.Duplicate
	t.Stray += u.Stray
	t.Allowed += u.Allowed
	t.Past += u.Past
	t.Overdue += u.Overdue
	t.Lost += u.Lost
	t.Excused += u.Excused
	t.Reordered += u.Reordered
	t.Disagreed += u.Disagreed
	t.Altered += u.Altered
}

// A Sheet is the account of the messages that were due in one second.
type Sheet struct {
	Second  int   // of the run; the ledger does not use it
	Own     bool  // it is of messages that the tool itself sent late; the ledger does not use it
	Foreign int64 // arrivals in that second whose mark is not of this run
	crews   int
	groups  []int32 // by room and kind: 1 more than the number of its group of cells
	cells   []Tally // crews cells a group
	keys    []Cell  // by group; the crew is not set
	live    int     // rows that still book here
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
		s.groups = append(s.groups, 0)
	}
	if s.groups[at] == 0 {
		s.crews = crews
		s.keys = append(s.keys, Cell{Room: r, Kind: k})
		s.groups[at] = int32(len(s.keys))
		for range crews {
			s.cells = append(s.cells, Tally{})
		}
	}
	return int(s.groups[at]-1) * crews
}
