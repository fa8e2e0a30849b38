package trial

// MessageTypes are the types, text or binary (RFC 6455 5.6), of what a trial's clients say to each other.
type MessageTypes struct{ text, binary bool }

// MessageTypes gives those of all steps, if what comes can be compared with them: everything goes over
// WebSockets alone.
func (t *Trial) MessageTypes() (m MessageTypes) {
	for i := range max(1, len(t.Target.Routes)) {
		if t.Target.Route(i).Kind != WebSocket {
			return MessageTypes{true, true}
		}
	}
	note := func(binary bool) { m.binary, m.text = m.binary || binary, m.text || !binary }
	for _, c := range t.Crews {
		for i := range c.Session.Steps {
			switch s := &c.Session.Steps[i]; {
			case s.Do == Say, s.Do == Tell:
				note(s.Binary)
			case s.Do == Ask && s.Request != nil && s.Request.Publishes: // HTTP has no types
				return MessageTypes{true, true}
			}
		}
	}
	if t.Dialect.Heard.Binary {
		note(true)
	}
	return m
}

// Changed reports whether a message came as a type that nobody has said anything as.
func (m MessageTypes) Changed(binary bool) bool {
	return m.text != m.binary && binary != m.binary
}
