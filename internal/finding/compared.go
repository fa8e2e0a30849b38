package finding

// Compared says of weaknesses that are looked for by comparing one thing with another, by number, what came of it,
// whether that is one or not.
func Compared(f *Facts) map[int][]string {
	s := &search{Facts: f} // nothing of it is what becomes of deliveries
	said := map[int][]string{}
	if slow, turns := s.slowTurns(); len(turns) > 0 {
		if c := s.worstBeside(turns); c != nil {
			said[stalledRoom.Number] = append(said[stalledRoom.Number], c.says(slow, turns))
		}
	}
	if t := s.tollOf(); t != nil {
		said[slowStore.Number] = append(said[slowStore.Number], t.says())
	}
	tell := func(row int, c scale) {
		if l := c.all(); l != nil {
			said[row] = append(said[row], c.says(l))
		}
	}
	tell(slowStore.Number, s.rates())
	tell(crookedGrowth.Number, s.rooms())
	tell(crookedGrowth.Number, s.texts())
	return said
}
