package recording

import (
	"encoding/json"
	"strings"
	"testing"

	"tidepull/internal/wire/http1"
)

// TestConceal: credentials are not kept, wherever they stand; what belongs
// together keeps belonging together, and all else stays as it was.
func TestConceal(t *testing.T) {
	rec := &Recording{Target: "ws://alder:high-water@127.0.0.1/live", Entries: []Entry{
		{What: Head, From: Client, Start: "POST /login?token=tok-123456&room=lock-1 HTTP/1.1",
			Fields: []http1.Field{{Name: "Authorization", Value: "Basic YWxkZXI6aGlnaC13YXRlcg=="},
				{Name: "Cookie", Value: "berth=sea-9; theme=dark"}, {Name: "X-Api-Key", Value: "key-7"},
				{Name: "Origin", Value: "http://harbour.example"}, {Name: "Sec-WebSocket-Key", Value: "AAAA"}}},
		{What: Content, From: Client, Text: "user=alder&password=high-water&room=lock-1"},
		{What: Content, From: Server,
			Text: `{ "access_token" : "given-abcdef", "user": {"name":"Alder","pin":"0042"} , "list":[1,2.50]}`},
		{What: Head, From: Server, Start: "200 OK",
			Fields: []http1.Field{{Name: "Set-Cookie", Value: "sid=sea-10-salt; Path=/; HttpOnly"}}},
		{What: Message, From: Client, Text: `{"kind":"enter","auth":"given-abcdef","note":"Bearer given-abcdef"}`},
		{What: Message, From: Server, Text: `{"kind":"notice","text":"the gate turns"}`},
		{What: Message, From: Client, Kind: "binary", Bytes: []byte{0xff, 1}},
	}}
	out := rec.Concealed()
	b, err := json.Marshal(out)
	if err != nil {
		t.Fatal(err)
	}
	text := string(b) + out.Target
	for _, secret := range []string{"tok-123456", "YWxkZXI6", "high-water", "sea-9", "sea-10", "key-7", "given-abcdef",
		"0042"} {
		if strings.Contains(text, secret) {
			t.Errorf("%s is kept in %s", secret, text)
		}
	}
	e := out.Entries
	given := PlaceholderForm.FindString(e[2].Text)
	if e[4].Text != `{"kind":"enter","auth":"`+given+`","note":"Bearer `+given+`"}` ||
		!strings.HasPrefix(e[2].Text, `{ "access_token" : "`+given+`", "user": {"name":"Alder"`) ||
		!strings.HasSuffix(e[2].Text, `"list":[1,2.50]}`) {
		t.Errorf("what was given is %s, what was used %s", e[2].Text, e[4].Text)
	}
	if e[0].Fields[3].Value != "http://harbour.example" || e[0].Fields[4].Value != "AAAA" ||
		!strings.HasSuffix(e[0].Start, "&room=lock-1 HTTP/1.1") || e[5].Text != rec.Entries[5].Text ||
		e[6].Bytes[0] != 0xff {
		t.Errorf("too much is hidden: %s", text)
	}
	if rec.Entries[1].Text != "user=alder&password=high-water&room=lock-1" {
		t.Error("the recording itself was changed")
	}
}

// TestConcealEverywhere: credentials in JSON that is not the whole of a message, and in other forms.
func TestConcealEverywhere(t *testing.T) {
	for name, text := range map[string]string{
		"behind a packet's number": `42["enter",{"room":"lock-1","token":"tok-123456"}]`,
		"behind an event's name":   `42["auth","tok-123456"]`,
		"in the second line":       "{\"kind\":\"named\"}\n{\"kind\":\"given\",\"access_token\":\"tok-123456\"}\n",
		"in a string":              `{"kind":"relay","body":"{\"token\":\"tok-123456\"}"}`,
		"in a string in a string":  `{"a":"{\"b\":\"{\\\"token\\\":\\\"tok-123456\\\"}\"}"}`,
		"in an event stream":       "data: {\"password\":\"tok-123456\"}\n\n",
		"none":                     `{"kind":"notice","text":"the token is on the table"} [[[[ {{{`,
	} {
		rec := &Recording{Entries: []Entry{{What: Message, From: Client, Text: text},
			{What: Message, From: Server, Text: "as you said: tok-123456, or dG9rLTEyMzQ1Ng=="}}}
		out := rec.Concealed().Entries
		if hidden := out[0].Text; strings.Contains(hidden, "tok-1234") || (hidden == text) != (name == "none") {
			t.Errorf("%s: %s", name, hidden)
		}
		if again := out[1].Text; name != "none" && (strings.Contains(again, "tok-1234") ||
			strings.Contains(again, "dG9rLTEyMzQ1Ng")) {
			t.Errorf("%s, in the next message: %s", name, again)
		}
	}
}
