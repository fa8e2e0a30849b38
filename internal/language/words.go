package language

import "github.com/hashicorp/hcl/v2"

// A word is one attribute of the language.
type word struct {
	name     string
	form     string // what is written there
	required bool
	doc      string
}

// A blockWord is one block of the language. The reader makes its schemas out
// of this table, so what is described here is what is read.
type blockWord struct {
	label  string // what its label is; "" for none
	attrs  []word
	blocks []string
	doc    string
}

var steps = []string{"connect", "expect", "enter", "say", "whisper", "leave", "pause", "repeat"}

const (
	formText      = "text"
	formNumber    = "number"
	formDuration  = `duration, such as "5s"`
	formShare     = `share, such as "20%"`
	formTemplate  = "text with ${...}"
	formCondition = "condition on msg"
	formBody      = "object (becomes JSON) or text with ${...}"
)

// vocabulary is the whole language. "" is the file itself.
var vocabulary = map[string]*blockWord{
	"": {blocks: []string{"trial", "target", "dialect", "session", "crew", "tide", "limit"}},
	"trial": {label: "name", doc: "names the experiment", attrs: []word{
		{"seed", formNumber, false, "what all random choices follow from; 1 where it is not given"},
		{"prompt", formDuration, false, `a delivery later than this is late; "1s" where it is not given`},
		{"grace", formDuration, false, `a message may arrive this long after it was sent; "5s" where it is not given`},
	}},
	"target": {label: "name", doc: "the server under test", attrs: []word{
		{"websocket", formText, false, "a ws:// address; --target on the command line goes before it"},
		{"dialect", formText, false, `how its messages look; "plain-json" where it is not given`},
	}},
	"dialect": {label: "name", doc: "how names, rooms and messages look for one family of servers",
		blocks: []string{"dialect.name", "dialect.enter", "dialect.leave", "dialect.past"}},
	"dialect.name":  {doc: "naming oneself, once the connection is open", attrs: exchange},
	"dialect.enter": {doc: "entering a room", attrs: exchange},
	"dialect.leave": {doc: "leaving a room", attrs: exchange},
	"dialect.past": {doc: "messages that come as history", attrs: []word{
		{"when", formCondition, true, "recognises one"},
	}},
	"session": {label: "name", doc: "the script that one client follows, step by step", blocks: steps},
	"connect": {doc: "connect and agree on the transport; a session starts with it", attrs: []word{
		{"within", formDuration, false, `how long that may take; "10s" where it is not given`},
	}},
	"expect": {label: "name", doc: "wait for a message", attrs: []word{
		{"when", formCondition, true, "the message waited for"},
		{"within", formDuration, false, `how long to wait; "5s" where it is not given`},
	}},
	"enter": {doc: "enter a room and wait for the confirmation", attrs: []word{
		{"room", formTemplate, true, "the room's name"},
		{"within", formDuration, false, `how long to wait; "10s" where it is not given`},
	}},
	"say": {doc: "say a message", attrs: []word{
		{"body", formBody, true, "the message, with ${mark} somewhere in it"},
		{"reaches", `"room", "others", "everyone" or "sender"`, false, `who should get it; "room" where it is not given`},
		{"room", formTemplate, false, "the room it is for; the one entered last where it is not given"},
	}},
	"whisper": {doc: "say a message to one member", attrs: []word{
		{"to", formTemplate, true, "the name of the client it is for"},
		{"body", formBody, true, "the message, with ${mark} somewhere in it"},
	}},
	"leave": {doc: "leave a room and wait for the confirmation", attrs: []word{
		{"room", formTemplate, false, "the room's name; the one entered last where it is not given"},
		{"within", formDuration, false, `how long to wait; "10s" where it is not given`},
	}},
	"pause": {doc: "wait", attrs: []word{
		{"lasts", formDuration, true, "for how long"},
	}},
	"repeat": {doc: "do the steps inside again and again, on schedule; the first turn comes after a random part of the interval", blocks: steps, attrs: []word{
		{"every", formDuration, true, "the interval from turn to turn"},
		{"jitter", formShare, false, "each turn comes up to this share of the interval early or late"},
		{"times", formNumber, false, "how many turns; until the tide falls where it is not given"},
	}},
	"crew": {label: "name", doc: "a group of clients that follow the same session", attrs: []word{
		{"clients", formNumber, true, "how many"},
		{"session", "session.NAME", true, "what they do"},
		{"name", formTemplate, false, `a client's name; the crew's name and "-${n}" where it is not given`},
	}},
	"tide":  {doc: "how many clients there are over time", blocks: []string{"flood", "slack", "ebb"}},
	"flood": {label: "share", doc: "rises to a share of all clients", attrs: []word{{"over", formDuration, true, "how long that takes"}}},
	"slack": {doc: "holds", attrs: []word{{"lasts", formDuration, true, "for how long"}}},
	"ebb": {doc: `falls, to nothing or to "to"`, attrs: []word{
		{"over", formDuration, true, "how long that takes"},
		{"to", formShare, false, "the share of clients at its end"},
	}},
	"limit": {label: "name", doc: "a pass/fail rule on a figure; one of below, above, at_most, at_least, equals", attrs: []word{
		{"of", "figure, such as fanout.p99", true, "what is limited"},
		{"below", formLimit, false, "it must be less than this"}, {"above", formLimit, false, "it must be more than this"}, {"at_most", formLimit, false, "it must not be more than this"},
		{"at_least", formLimit, false, "it must not be less than this"}, {"equals", formLimit, false, "it must be this"},
	}},
}

const formLimit = "duration or number"

var exchange = []word{
	{"send", formBody, false, "what the client sends"},
	{"confirmed", formCondition, false, "recognises the confirmation; nothing is waited for where it is not given"},
	{"refused", formCondition, false, "recognises the refusal"},
}

// schema makes the library's schema for a block.
func (b *blockWord) schema() *hcl.BodySchema {
	s := &hcl.BodySchema{}
	for _, a := range b.attrs {
		s.Attributes = append(s.Attributes, hcl.AttributeSchema{Name: a.name, Required: a.required})
	}
	for _, name := range b.blocks {
		h := hcl.BlockHeaderSchema{Type: lastPart(name)}
		if label := vocabulary[name].label; label != "" {
			h.LabelNames = []string{label}
		}
		s.Blocks = append(s.Blocks, h)
	}
	return s
}
