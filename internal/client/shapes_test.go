package client

import (
	"strings"
	"testing"
)

// TestShapes: messages that differ in ids, numbers and free text are of one sort, and different kinds are not; what
// would take them is said if they say what they are.
func TestShapes(t *testing.T) {
	for _, same := range [][]string{
		{`{"kind":"hello","session":"9f86d081884c7d65","at":1.5}`, `{"kind":"hello","session":"0123","at":22}`},
		{`{"type":"note","text":"a boat waits"}`,
			`{"type":"note","text":"the gate, \"north\", is open and the lamp lit"}`},
		{"420 gauge-7 1.5", "1 gauge-12 200"},
		{"hello 6ba7b810-9dad-11d1-80b4-00c04fd430c8!", "hello 6ba7b811-9dad-11d1-80b4-00c04fd430c8!"},
	} {
		if a, b := shapeOf(nil, []byte(same[0])), shapeOf(nil, []byte(same[1])); string(a) != string(b) {
			t.Errorf("of two sorts: %s and %s", a, b)
		}
	}
	for _, apart := range [][]string{
		{`{"kind":"hello"}`, `{"kind":"bye"}`}, {`{"a":"1"}`, `{"b":"1"}`}, {"open", "shut"}, {`["joined",1]`,
			`["gone",1]`},
	} {
		if a, b := shapeOf(nil, []byte(apart[0])), shapeOf(nil, []byte(apart[1])); string(a) == string(b) {
			t.Errorf("of one sort: %s and %s", apart[0], apart[1])
		}
	}
	if n := len(shapeOf(nil, []byte(`{"`+strings.Repeat("x", 9999)))); n > 5*inShape {
		t.Errorf("a shape of %d bytes", n)
	}
	if got := taking([]byte(`{"kind":"hello","type":"x"}`)); !strings.Contains(got,
		`other { when = msg.kind == "hello" }`) {
		t.Error(got)
	}
	for _, none := range []string{`{"kind":"a 7"}`, `[1]`, `hello`, `{"kind":"${x}"}`, `{"type":"error"}`} {
		if got := taking([]byte(none)); got != "" {
			t.Errorf("%s: %s", none, got)
		}
	}
}
