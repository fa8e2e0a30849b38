package replay

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"tidepull/internal/capture/recording"
	"tidepull/internal/wire/http1"
)

func heardAll(texts ...string) (all []Heard) {
	for i, s := range texts {
		all = append(all, Heard{Shape: ShapeOf([]byte(s), false, []string{"Alder"}), Sample: []byte(s),
			After: time.Duration(i) * time.Millisecond})
	}
	return all
}

// TestCompare tells each kind of difference apart, and nothing from what only
// varies.
func TestCompare(t *testing.T) {
	then := []string{`{"kind":"welcome"}`, `{"kind":"named","name":"Alder"}`,
		`{"kind":"entered","room":"lock-1","members":3,"list":[1,2]}`, `welcome Alder, 12 are here`, `{"kind":"bye"}`}
	for name, tc := range map[string]struct {
		now  []string
		want string
	}{
		"the same": {then, ""},
		"what varies": {[]string{then[0], `{"name":"Birch","kind":"named"}`,
			`{"kind":"entered","room":"x","members":4,"list":[7]}`, "welcome Alder, 13 are here", then[4]}, ""},
		"one missing": {[]string{then[0], then[1], then[3], then[4]}, "did not come entered"},
		"another form": {[]string{then[0], then[1], `{"kind":"entered","room":"lock-1","members":"3","list":[1]}`,
			then[3], then[4]}, "came otherwise entered"},
		"other order": {[]string{then[0], then[2], then[3], then[1], then[4]}, "came in another order named"},
		"one more":    {append(append([]string{}, then...), `{"kind":"bye"}`), "came, but not in the recording bye"},
		"other text": {[]string{then[0], then[1], then[2], "goodbye Alder, 12 are here", then[4]},
			"came otherwise welcome …, # are here"},
	} {
		var got []string
		for _, d := range Compare(heardAll(then...), heardAll(tc.now...), Lateness{3, time.Second}) {
			got = append(got, d.Kind+" "+d.What)
		}
		if strings.Join(got, "; ") != tc.want {
			t.Errorf("%s: %q, want %q", name, got, tc.want)
		}
	}
	late := heardAll(then...)
	late[2].After = 1100 * time.Millisecond
	if d := Compare(heardAll(then...), late, Lateness{3, time.Second}); len(d) != 1 || d[0].Kind != Later ||
		d[0].What != "entered" {
		t.Errorf("late: %+v", d)
	}
}

// TestShapes: JSON is found behind a packet's digits and in texts, and what nobody thought
// of is left out of a text.
func TestShapes(t *testing.T) {
	for _, tc := range []struct {
		a, b   string
		binary bool
		same   bool
	}{
		{a: `42["post",{"room":"lock-1"}]`, b: `42["post",{"room":"quay"}]`, same: true},
		{a: `42["post",{"room":"lock-1"}]`, b: `43["post",{"room":"lock-1"}]`},
		{a: `42["post",{"room":"lock-1"}]`, b: `42["gone",{"room":"lock-1"}]`},
		{a: `a["{\"did\":\"join\",\"n\":1}"]`, b: `a["{\"did\":\"join\",\"n\":2}"]`, same: true},
		{a: `a["{\"did\":\"join\",\"n\":1}"]`, b: `a["{\"did\":\"join\",\"n\":\"1\"}"]`},
		{a: `a["{\"did\":\"join\"}"]`, b: `a["{\"did\":\"part\"}"]`},
		{a: `{"data":"{\"room\":1}"}`, b: `{"data":"{\"berth\":1}"}`},
		{a: "session:session-7R1kzpGdMiDwg-Vq2p2cyg of 3", b: "session:session-_-a3qtejlalMcCOr4SrXwQ of 12",
			same: true},
		{a: "session-QVDFjp3I-ubIRhR-MBotNA", b: "session--XJPPJxyOWxa_pU_KfcHsw", same: true},
		{a: "the harbourMasterOfficeKeyHolder", b: "the harbourKeeperOfficeKeyHolder"},
		{a: "the harbour-master-of-1871 is in", b: "the harbour-keeper-of-1871 is in"},
		{a: "\x90\x03\x00\x01\x00", b: "\x90\x03\x00\x01\x80", binary: true},
		{a: "0\x17\x00\x06lock-1berth 3", b: "0\x17\x00\x06lock-1berth 4", binary: true, same: true},
	} {
		a, b := ShapeOf([]byte(tc.a), tc.binary, nil), ShapeOf([]byte(tc.b), tc.binary, nil)
		if (a == b) != tc.same {
			t.Errorf("%q is %+v, %q is %+v", tc.a, a, tc.b, b)
		}
	}
	for _, tc := range []struct {
		a, b string
		same bool
	}{
		{"session:session-abcdefghijKLMNOPQRSTUV of 3", "session:session-XJPPJxyOWxapUKfcHswqqq of 12", true},
		{"session:session-abcdefghijKLMNOPQRSTUV of 3", "session:session-XJPPJxyOWxapUKfcHs of 3", false},
		{"the harbourmaster is in", "the harbourkeeper is in", false}, {"the gate is open", "the gate is shut", false},
	} {
		if alike(tc.a, tc.b) != tc.same {
			t.Errorf("%q beside %q", tc.a, tc.b)
		}
	}
	nested := `a["{\"did\":\"join\",\"key\":\"b-77231\"}"]`
	for _, l := range leaves([]byte(nested)) {
		if l.value == "b-77231" {
			if got := access([]byte(nested), l.path); got != `field(field(substr(text, 1), "0"), "key")` {
				t.Errorf("it is taken by %s", got)
			}
			return
		}
	}
	t.Error("a value in a text in a list is not found")
}

// TestGuesses finds what varies, and lets itself be corrected.
func TestGuesses(t *testing.T) {
	made := time.Date(2026, 1, 31, 6, 0, 0, 0, time.UTC)
	rec := &recording.Recording{Version: 1, Made: made.Format(time.RFC3339), Target: "ws://127.0.0.1:1/live"}
	add := func(what, from, text string) {
		rec.Entries = append(rec.Entries, recording.Entry{At: int64(len(rec.Entries)) * 1000, Conn: 1, What: what,
			From: from, Kind: "text", Text: text})
	}
	rec.Entries = append(rec.Entries,
		recording.Entry{Conn: 1, What: recording.Head, From: recording.Client, Start: "GET /live HTTP/1.1",
			Fields: fields("Upgrade: websocket", "Connection: Upgrade", "Origin: http://harbour.example")},
		recording.Entry{Conn: 1, What: recording.Head, From: recording.Server, Start: "101 Switching Protocols",
			Fields: fields("Upgrade: websocket", "Connection: Upgrade")})
	add("message", recording.Server, `{"kind":"welcome","berth":{"id":"b-77231"}}`)
	add("message", recording.Client, `{"kind":"name","user":"Alder"}`)
	add("message", recording.Server, `{"kind":"list","people":["Birch","Alder"]}`)
	add("message", recording.Client,
		fmt.Sprintf(`{"kind":"hold","berth":"b-77231","at":%d,"ref":"0b0d8a3e-5a07-4c5c-9e61-3f2f5bd0a111","text`+
			`":"${not} a %%{template} for \"Alder\" at 2026-01-31T06:00:01Z","ten":10}`, made.UnixMilli()+5))
	p, err := Make(rec, Options{})
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, g := range p.Guesses {
		got[g.Value] = g.Kind + " " + g.Becomes
	}
	want := map[string]string{"Alder": "name name", "b-77231": "given my.id",
		"0b0d8a3e-5a07-4c5c-9e61-3f2f5bd0a111": "id uuid()", "2026-01-31T06:00:01Z": "time timestamp()",
		fmt.Sprint(made.UnixMilli() + 5): "time now()"}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("guessed %v\nwant    %v", got, want)
	}
	corrected, err := Make(rec, Options{Keep: []string{"b-77231", "Alder"},
		Vary: map[string]string{"hold": `pick("hold", "keep")`}})
	if err != nil {
		t.Fatal(err)
	}
	text := corrected.Trial("corrected", 1)
	for _, part := range []string{`kind = pick("hold", "keep")`, `berth = "b-77231"`, `user = "Alder"`,
		`"Origin" = "http://harbour.example"`, `text = "$${not} a %%{template} for \"Alder\" at ${timestamp()}"`,
		"at = now()"} {
		if !strings.Contains(strings.Join(strings.Fields(text), " "), part) {
			t.Errorf("there is no %s in\n%s", part, text)
		}
	}
	add("message", recording.Client, `{"kind":"hold","ref":"0b0d8a3e-5a07-4c5c-9e61-3f2f5bd0a111"}`)
	twice, err := Make(rec, Options{})
	if err != nil {
		t.Fatal(err)
	}
	text = strings.Join(strings.Fields(twice.Trial("twice", 1)), " ")
	if strings.Count(text, "uuid()") != 2 || !strings.Contains(text, "set { made_1 = uuid() }") || // and in the head
		strings.Count(text, "ref = my.made_1") != 2 {
		t.Errorf("what is said twice is made twice:\n%s", text)
	}
	if _, err := Make(&recording.Recording{Version: 1}, Options{}); err == nil {
		t.Error("an empty recording makes a plan")
	}
}

func fields(lines ...string) (all []http1.Field) {
	for _, l := range lines {
		name, value, _ := strings.Cut(l, ": ")
		all = append(all, http1.Field{Name: name, Value: value})
	}
	return all
}

// TestSuggest: what differs in one random word gets a pattern that matches both.
func TestSuggest(t *testing.T) {
	for _, tc := range []struct {
		recorded, now string
		suggests      bool
	}{
		{`{"kind":"ticket","id":"a81f0c22"}`, `{"kind":"ticket","id":"77be01d4"}`, true},
		{"your berth is 20260131-0042, pilot", "your berth is 20261126-0007, pilot", true},
		{`{"kind":"ticket","id":"a81f0c22"}`, `{"kind":"ticket","id":"none"}`, false},
		{`{"id":"a81f0c22","by":"b81f0c22"}`, `{"id":"77be01d4","by":"c81f0c22"}`, false},
		{"the gate is open", "the gate is shut", false},
		{"the gate", "the gate is shut", false},
		{"", "", false},
	} {
		pattern := Suggest(tc.recorded, tc.now)
		if (pattern != "") != tc.suggests {
			t.Errorf("%s and %s: %q", tc.recorded, tc.now, pattern)
		}
		if p := regexp.MustCompile(pattern); pattern != "" && !(p.MatchString(tc.recorded) && p.MatchString(tc.now)) {
			t.Errorf("%q does not match %s and %s", pattern, tc.recorded, tc.now)
		}
	}
}

// TestClosedByServer: the answer to a close of the server's is nothing that the client
// does by itself.
func TestClosedByServer(t *testing.T) {
	for first, want := range map[string]bool{recording.Server: false, recording.Client: true} {
		second := map[string]string{recording.Server: recording.Client, recording.Client: recording.Server}[first]
		rec := &recording.Recording{Version: 1, Target: "ws://127.0.0.1:1/live", Entries: []recording.Entry{
			{Conn: 1, What: recording.Head, From: recording.Client, Start: "GET /live HTTP/1.1",
				Fields: []http1.Field{{Name: "Upgrade", Value: "websocket"}}},
			{At: 1, Conn: 1, What: recording.Head, From: recording.Server, Start: "101 Switching Protocols"},
			{At: 2, Conn: 1, What: recording.Message, From: recording.Client, Kind: "text", Text: "hello"},
			{At: 3, Conn: 1, What: recording.Close, From: first, Code: 1000},
			{At: 4, Conn: 1, What: recording.Close, From: second, Code: 1000},
		}}
		p, err := Make(rec, Options{})
		if err != nil {
			t.Fatal(err)
		}
		steps := p.Actors[0].Steps
		if closes := steps[len(steps)-1].Do == Close; closes != want {
			t.Errorf("closed by the %s first: %+v", first, steps)
		}
	}
}

// TestValues: what a client itself had sent, and what two recordings have in common, must be the same now; what
// varies between them, and in which order others speak, need not.
func TestValues(t *testing.T) {
	session := func(time string) *Plan {
		steps := []Step{{Do: Say, Payload: []byte(`{"kind":"enter","room":"lock-1"}`)},
			{Do: Hear, Payload: []byte(`{"kind":"entered","room":"lock-1","members":1,"seq":7,"at":"` + time + `"}`)},
			{Do: Say, Payload: []byte(`{"kind":"notice","room":"lock-1","text":"berth <7>"}`)},
			{Do: Hear, Payload: []byte(`{"kind":"notice","room":"lock-1","text":"berth <7>","at":"` + time + `"}`)},
			{Do: Hear, Payload: []byte(`{"kind":"notice","room":"lock-1","text":"from the quay","at":"` + time + `"}`)},
			{Do: Hear, Payload: []byte(`{"kind":"refused","error":{"code":403,"text":"you are not in that room"}}`)}}
		return &Plan{Actors: []*Actor{{Number: 1, Steps: steps}}}
	}
	heard := func(p *Plan) (all []Heard) {
		a := p.Actors[0]
		for i := range a.Steps {
			if s := &a.Steps[i]; s.Do == Hear {
				all = append(all, Heard{Shape: ShapeOf(s.Payload, false, nil), Sample: s.Payload,
					Values: p.Filled(a, s, nil, 1)})
			}
		}
		return all
	}
	alone, learnt := session("09:00"), session("09:00")
	alone.FixValues(nil)
	varies := learnt.FixValues(session("09:05"))
	if got := strings.Join(varies, "; "); got != "at of entered; at of notice" {
		t.Errorf("what varies is %s", got)
	}
	for name, tc := range map[string]struct {
		from, to string
		alone    string // what is different without a second recording
		learnt   string // and with one
	}{
		"nothing":  {"", "", "", ""},
		"the time": {"09:00", "10:30", "", ""},
		"the room": {`"entered","room":"lock-1"`, `"entered","room":"lock-2"`, "entered, room",
			"entered, room"},
		"its text, escaped": {"berth <7>", "berth &lt;7&gt;", "notice, text", "notice, text"},
		"another's text":    {"from the quay", "from the mole", "", "notice, text"},
		"members":           {`"members":1`, `"members":2`, "", "entered, members"},
		"a number":          {`"seq":7`, `"seq":8`, "", "entered, seq"},
		"an error's code":   {"403", "404", "", "refused, error.code"},
		"an error's text":   {"you are not in that room", "who are you?", "", "refused, error.text"},
	} {
		for with, p := range map[*Plan]string{alone: tc.alone, learnt: tc.learnt} {
			now := heard(session("09:00"))
			for i := range now {
				now[i].Sample = []byte(strings.Replace(string(now[i].Sample), tc.from, tc.to, 1))
			}
			now[1], now[2] = now[2], now[1] // others speak when they like
			var got []string
			for _, d := range Compare(heard(with), now, Lateness{3, time.Second}) {
				got = append(got, d.What)
				if d.Kind != Valued {
					t.Errorf("%s: %+v", name, d)
				}
			}
			if strings.Join(got, "; ") != p {
				t.Errorf("%s: different are %q, want %q", name, got, p)
			}
		}
	}
}

// TestValuesAmongCopies: what other copies say comes in between, and in front; what a client itself had sent is found
// among it, and if it is not there that is one difference.
func TestValuesAmongCopies(t *testing.T) {
	notice := func(text string) Heard {
		sample := []byte(`{"kind":"notice","text":"` + text + `"}`)
		return Heard{Shape: ShapeOf(sample, false, nil), Sample: sample}
	}
	recorded := []Heard{notice("coming in"), notice("berth 3 is free"), notice("mind the tide")}
	recorded[0].Values = []Value{{"text", "coming in", fromClient, true}}
	recorded[2].Values = []Value{{"text", "mind the tide", fromClient, true}}
	now := []Heard{notice("berth 3 is free"), notice("berth 3 is free"), notice("coming in"), notice("coming in"),
		notice("berth 3 is free"), notice("mind the tide"), notice("berth 3 is free")}
	room := Value{"kind", "notice", fromClient, true} // which all of them say
	for i := range recorded {
		recorded[i].Values = append(recorded[i].Values, room)
	}
	for _, lacks := range []bool{false, true} {
		valued := 0
		if lacks {
			now[5] = notice("mind the tides")
		}
		for _, d := range Compare(recorded, now, Lateness{3, time.Second}) {
			if d.Kind == Valued {
				valued++
			} else if d.Kind != More {
				t.Errorf("%+v", d)
			}
		}
		if (valued == 1) != lacks {
			t.Errorf("lacks one: %v: %d say another value", lacks, valued)
		}
	}
}
