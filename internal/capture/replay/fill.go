package replay

import "strings"

// Fill puts values, by guess, in the place of those in a recorded text. Where
// one is not known the recorded one stays.
func (p *Plan) Fill(a *Actor, s string, values []string) string {
	var b strings.Builder
	for _, piece := range p.pieces(a, s) {
		if piece.guess >= 0 && values[piece.guess] != "" {
			b.WriteString(values[piece.guess])
		} else {
			b.WriteString(piece.text)
		}
	}
	return b.String()
}

// ValuesOf lists the recorded values that vary for an actor.
func (p *Plan) ValuesOf(a *Actor) []string { return (&writer{plan: p}).valuesOf(a) }

// Give takes the values that the server gives in a message out of it, if it
// has the shape of the one that gave them in the recording.
func (p *Plan) Give(a *Actor, shape Shape, payload []byte, values []string) {
	for i := range a.Steps {
		s := &a.Steps[i]
		if s.Do != Hear || len(s.Gives) == 0 || ShapeOf(s.Payload, s.Binary, nil).Kind != shape.Kind {
			continue
		}
		for _, g := range s.Gives {
			if values[g] == "" {
				p.GiveFrom(g, payload, nil, values)
			}
		}
	}
}

// GiveFrom takes the value of a guess out of an answer, or its cookies.
func (p *Plan) GiveFrom(i int, content []byte, cookies map[string]string, values []string) {
	g := &p.Guesses[i]
	if g.Cookie != "" {
		if v, ok := cookies[g.Cookie]; ok {
			values[i] = v
		}
		return
	}
	for _, l := range leaves(content) {
		if l.path == g.Path {
			values[i] = l.value
		}
	}
}
