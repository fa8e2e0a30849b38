package language

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Answers are what somebody who has a server and no trial knows of it: samples of what
// goes over the wire, in which <name>, <room> and <text> stand for a client's name, a room, and
// what somebody says. An empty one is something that the server does not have.
type Answers struct {
	Address  string // ws:// or tcp://
	Name     string // what a client says its name with
	Named    string // what it is answered
	Enter    string // what it enters a room with
	Entered  string // what it is answered
	Say      string // what it says a message with
	Received string // how the others get that
}

// Fresh writes a trial for a server of which samples are known: a place to begin.
func Fresh(a Answers) string {
	rooms := a.Enter != "" || a.Entered != ""
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	key := "websocket"
	if strings.HasPrefix(a.Address, "tcp:") {
		key = "lines"
	}
	p("# Made by tidepull new. Check how messages are recognised, then try it:\n#\n#   tidepull check FILE")
	p("#   tidepull run FILE\n")
	p("trial \"first try\" {\n  grace = \"3s\"\n}\n")
	p("target \"server\" {\n  %s = %s\n  dialect = \"theirs\"\n}\n", key, Quote(a.Address))
	p("dialect \"theirs\" {")
	sampleExchange(p, "name", a.Name, a.Named)
	if rooms {
		sampleExchange(p, "enter", a.Enter, a.Entered)
	}
	said, payload := template(a.Say), ""
	if when := condition(a.Received); when != "" {
		p("  heard {\n    when = %s", when)
		if field := payloadField(a.Received); field != "" {
			p("    payload = msg[%s]", Quote(field))
			// with what careless servers change
			payload = "      payload = \"berth ${n} <north & south> \u00e9 ${mark}\"\n"
			said = strings.Replace(said, samplePayload, "${payload}", 1)
		}
		p("  }")
	}
	p("}\n\nsession \"try\" {\n  connect {}")
	room := ""
	if rooms {
		p("  enter { room = \"lock-${n %% 2}\" }")
	} else {
		room = "\n      reaches = \"everyone\""
	}
	p("  pause { lasts = \"1s\" }\n  repeat {\n    every = \"1s\"\n    say {\n%s      body = %s%s\n    }\n  }\n}\n",
		payload, said, room)
	p("crew \"pilots\" {\n  clients = 10\n  session = session.try\n}\n")
	p("tide {\n  flood \"100%%\" { over = \"1s\" }\n  slack { lasts = \"8s\" }\n  ebb { over = \"1s\" }\n}\n")
	p("limit \"nothing is lost\" {\n  of     = ledger.lost\n  equals = 0\n}")
	out, err := Format([]byte(b.String()), "new.trial.hcl")
	if err != nil { // it shows what is wrong with it when it is checked
		return b.String()
	}
	return string(out)
}

// sampleExchange writes how a client says something and is answered.
func sampleExchange(p func(string, ...any), block, send, answer string) {
	if send == "" && answer == "" {
		return
	}
	p("  %s {", block)
	if send != "" {
		p("    send = %s", template(send))
	}
	if when := condition(answer); when != "" {
		p("    confirmed = %s", when)
	}
	p("  }")
}

// template makes the text of a sample one in which the client's own values stand.
func template(sample string) string {
	return strings.NewReplacer("<name>", "${name}", "<room>", "${room}", "<text>", samplePayload).
		Replace(Quote(sample))
}

// samplePayload is what clients say.
const samplePayload = "berth ${n} ${mark}"

// payloadField is the field of a sample, if it is a JSON object, that holds what was said and nothing else;
// "" if there is none.
func payloadField(sample string) string {
	var fields map[string]any
	if json.Unmarshal([]byte(sample), &fields) != nil {
		return ""
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		if fields[name] == "<text>" {
			return name
		}
	}
	return ""
}

// condition makes what recognises messages like a sample: a JSON object by its texts that
// stay the same, and by the name and the room in it; any other text by how it begins, up to
// what varies, or as a whole.
func condition(sample string) string {
	if sample == "" {
		return ""
	}
	var fields map[string]any
	if d := json.NewDecoder(bytes.NewReader([]byte(sample))); d.Decode(&fields) == nil {
		var all []string
		for _, name := range slices.Sorted(maps.Keys(fields)) {
			text, is := fields[name].(string)
			at := "msg[" + Quote(name) + "]"
			switch {
			case !is || strings.Contains(text, "<text>"):
			case text == "<name>" && len(all) == 0: // that of the one who said it may be another's
			case text == "<room>":
				all = append(all, at+" == room")
			case !strings.Contains(text, "<name>") && !strings.Contains(text, "<room>"):
				all = append(all, at+" == "+Quote(text))
			}
		}
		return strings.Join(all, " && ")
	}
	if begins, _, varies := strings.Cut(sample, "<text>"); varies {
		if begins, _, _ = strings.Cut(begins, "<name>"); begins == "" {
			return ""
		}
		begins, _, _ = strings.Cut(begins, "<room>")
		return fmt.Sprintf("substr(text, 0, %d) == %s", len(begins), Quote(begins))
	}
	return "text == " + template(sample)
}
