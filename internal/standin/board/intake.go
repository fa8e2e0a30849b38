package board

// Intake are switches of what the board makes of what comes in.
type Intake struct {
	AnyOrigin float64
	Fragile   float64
	Naive     float64
}

// intakeList lists these switches.
var intakeList = []Switch{
	{"any_origin", "a browser is let in whatever its origin", func(s *Switches) any { return &s.AnyOrigin }},
	{"fragile", "a message that is not JSON, or of an unknown kind, takes all connections with it",
		func(s *Switches) any { return &s.Fragile }},
	{"naive", "what comes in one read is taken for one message: a second one in it is lost, and over TCP what is " +
		"not whole", func(s *Switches) any { return &s.Naive }},
}

// unknown handles a message that the board does not understand.
func (b *Board) unknown(id int32, why string) {
	if !b.meets(b.cfg.Switches.Fragile, "fragile", id) {
		b.refuse(id, "message", why)
		return
	}
	b.Truth.Totals.Tolerated++
	for other := range b.members {
		if b.members[other].here {
			b.out.Hangup(int32(other))
		}
	}
}
