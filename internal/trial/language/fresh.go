package language

import (
	"fmt"
	"strings"
)

// Answers are what somebody who has a server and no trial knows of it: samples of what goes over the wire, in which
// <name>, <room> and <text> stand for a client's name, a room, and what somebody says, <to> for whom it is, and <count>
// for how many are in a room. An empty one is something that the server does not have.
type Answers struct {
	File     string   // that the trial will be in, for what stands at its head; may be empty
	Address  string   // ws://, wss://, http://, https:// or tcp://
	Prefix   string   // over TCP: how the length in front of each message is written; "": messages are lines
	Name     string   // what a client says its name with
	Named    string   // what it is answered
	Enter    string   // what it enters a room with
	Entered  string   // what it is answered
	Say      string   // what it says a message with
	Received string   // how the others get that
	Alone    bool     // the others alone: the sender does not
	Members  string   // how a room's number of members is told
	Past     string   // what who comes late gets of what was said before
	Whisper  string   // how a private message is said
	Greeting string   // what the server says by itself when a client connects
	First    string   // what a client must send before it says its name
	Then     string   // what that is answered
	Beat     string   // how the server asks for a sign of life, by a message
	Alive    string   // what that is answered
	Others   []string // what else came, if it was tried: what the rest does not recognise means nothing
}

// what clients say; it has in it what careless servers change.
const (
	samplePayload = "berth ${n} <north & south> \u00e9 ${mark}"
	plainPayload  = "berth ${n} ${mark}"
)

// Fresh writes a trial for a server of which samples are known: a place to begin.
func Fresh(a Answers) string {
	w := &fresh{a: a, say: readSample(a.Say), received: readSample(a.Received)}
	w.rooms = a.Enter != "" || a.Entered != ""
	if w.payload = w.received.placed(forText); w.payload == "" && w.received.tree == nil && w.received.text == "" {
		w.payload = w.say.placed(forText) // it is relayed as it is, for all that is known
	}
	w.target()
	w.dialect()
	w.session()
	w.p("crew \"pilots\" {\n  clients = 10\n  session = session.try\n}\n")
	w.p("tide {\n  flood \"100%%\" { over = \"1s\" }\n  slack { lasts = \"8s\" }\n  ebb { over = \"1s\" }\n}\n")
	w.p("limit \"nothing is lost\" {\n  of     = ledger.lost\n  equals = 0\n}")
	out, err := Format([]byte(w.b.String()), "new.trial.hcl")
	if err != nil { // it shows what is wrong with it when it is checked
		return w.b.String()
	}
	return string(out)
}

// A fresh is a trial that is being written.
type fresh struct {
	a             Answers
	b             strings.Builder
	say, received sample
	rooms         bool
	payload       string // where what was said stands in what the others get; "": nobody knows
}

func (w *fresh) p(format string, args ...any) { fmt.Fprintf(&w.b, format+"\n", args...) }

func (w *fresh) target() {
	key, address, prefix := "websocket", w.a.Address, ""
	switch scheme, rest, _ := strings.Cut(address, "://"); scheme {
	case "tcp", "tls":
		if key = "lines"; w.a.Prefix != "" {
			key, prefix = "tcp", fmt.Sprintf("  prefix = %s\n", Quote(w.a.Prefix))
		}
	case "http":
		address = "ws://" + rest
	case "https":
		address = "wss://" + rest
	}
	file := w.a.File
	if file == "" {
		file = "FILE"
	}
	w.p("# Made by tidepull new out of samples. What its first run does not recognise it lists, with the line that "+
		"would\n"+
		"# take it. Check it, and run it:\n#\n#   tidepull check %s\n#   tidepull run %s\n", file, file)
	w.p("trial \"first try\" {\n  grace = \"3s\"\n}\n")
	w.p("target \"server\" {\n  %s = %s\n%s  dialect = \"theirs\"\n}\n", key, Quote(address), prefix)
}

func (w *fresh) dialect() {
	w.p("dialect \"theirs\" {")
	for _, s := range []sample{w.received, readSample(w.a.Named), readSample(w.a.Entered), w.say} {
		if s.front != "" { // digits say what sort of packet it is
			w.p("  json = match(text, \"(?s)^[0-9]*(.*)$\", 1)")
			break
		}
	}
	w.exchange("name", w.a.Name, w.a.Named, func() {
		greeting, then := readSample(w.a.Greeting), readSample(w.a.Then)
		w.attribute("after", greeting.recognised(false))
		if w.a.First != "" {
			first := readSample(w.a.First)
			w.attribute("first", first.body(plainPayload))
			w.attribute("then", then.recognised(false))
		}
	})
	if w.rooms {
		w.exchange("enter", w.a.Enter, w.a.Entered, func() {})
	}
	if when := w.received.recognised(false); when != "" || w.payload != "" {
		w.p("  heard {")
		w.attribute("when", when)
		if w.rooms {
			w.attribute("room", w.received.placed(forRoom))
		}
		w.attribute("seq", w.received.numbered())
		w.attribute("payload", w.payload)
		w.p("  }")
	}
	w.past()
	if s := readSample(w.a.Members); s.text != "" {
		w.p("  presence {")
		w.attribute("when", s.recognised(false))
		room := s.placed(forRoom)
		if room == "" && w.rooms { // it is about the one that the client is in
			room = "room"
		}
		w.attribute("room", room)
		count := s.placed(forCount)
		if s.tree == nil && count != "" {
			count = "number(" + count + ")"
		}
		w.attribute("members", count)
		w.p("  }")
	}
	if s := readSample(w.a.Beat); s.text != "" {
		answer := readSample(w.a.Alive)
		w.p("  beat {")
		w.attribute("when", s.recognised(false))
		if answer.text != "" {
			w.attribute("answer", answer.body(plainPayload))
		}
		w.p("  }")
	}
	if others := w.others(); len(others) > 0 {
		w.p("  other {")
		w.attribute("when", strings.Join(others, " || "))
		w.p("  }")
	}
	w.p("}\n")
}

func (w *fresh) attribute(name, value string) {
	if value != "" {
		w.p("    %s = %s", name, value)
	}
}

// mostOthers bounds the sorts of messages that mean nothing.
const mostOthers = 8

// others recognise what the rest of the dialect does not.
func (w *fresh) others() (all []string) {
	known := map[string]bool{"": true}
	for _, text := range []string{w.a.Received, w.a.Named, w.a.Entered, w.a.Members, w.a.Past, w.a.Then, w.a.Beat} {
		s := readSample(text)
		known[s.recognised(false)] = true
	}
	if greeting := readSample(w.a.Greeting); w.a.Name != "" { // it is waited for
		known[greeting.recognised(false)] = true
	}
	for _, text := range append([]string{w.a.Greeting}, w.a.Others...) {
		s := readSample(text)
		if when := s.recognised(false); !known[when] && len(all) < mostOthers {
			known[when] = true
			all = append(all, when)
		}
	}
	return all
}

// past says how what was said before is told: by a message that holds it, or by messages of a kind of their own.
func (w *fresh) past() {
	s := readSample(w.a.Past)
	if s.text == "" || s.recognised(false) == w.received.recognised(false) { // it cannot be told from what is new
		return
	}
	w.p("  past {")
	w.attribute("when", s.recognised(false))
	if s.tree != nil {
		s.tree.each("msg", func(at, _ string, leaf *node) {
			if list, _, is := strings.Cut(at, "[0]"); is && leaf.is(forText) && list != "msg" {
				w.attribute("each", list)
			}
		})
	}
	w.p("  }")
}

// exchange writes how a client says something and is answered, and what goes before that.
func (w *fresh) exchange(block, send, answer string, before func()) {
	out, in := readSample(send), readSample(answer)
	if out.text == "" && in.text == "" {
		return
	}
	w.p("  %s {", block)
	before()
	if out.text != "" {
		w.attribute("send", out.body(plainPayload))
	}
	w.attribute("confirmed", in.recognised(true))
	w.p("  }")
}

func (w *fresh) session() {
	w.p("session \"try\" {\n  connect {}")
	reaches := ""
	switch {
	case !w.rooms:
		reaches = "\n      reaches = \"everyone\""
	case w.a.Alone:
		reaches = "\n      reaches = \"others\""
	}
	if w.rooms {
		w.p("  enter { room = \"lock-${n %% 2}\" }")
	}
	payload, stands := "", plainPayload
	if w.payload != "" && strings.Contains(w.a.Say, forText) {
		payload, stands = "      payload = "+Quote(samplePayload)+"\n", "${payload}"
		payload = strings.NewReplacer("$${", "${").Replace(payload)
	}
	w.p("  pause { lasts = \"1s\" }\n  repeat {\n    every = \"1s\"\n    say {\n%s      body = %s%s\n    }", payload,
		w.say.body(stands), reaches)
	if s := readSample(w.a.Whisper); s.text != "" {
		w.p("    whisper {\n      to = \"pilots-${(n + 1) %% 10}\"\n      body = %s\n    }", s.body(plainPayload))
	}
	w.p("  }\n}\n")
}
