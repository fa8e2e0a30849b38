package jsonscan

import (
	"encoding/json"
	"testing"
)

func wanted() *Table {
	var t Table
	t.Add("kind")
	t.Add("room")
	t.Add("at", "gauge")
	t.Add("list", "1")
	t.Add()
	return &t
}

func TestExtract(t *testing.T) {
	table := wanted()
	out := make([]Value, table.Len())
	text := []byte(` {"kind":"not\u0069ce", "x":[1,{"kind":3}], "at":{"gauge":-4.5e1,"kind":0}, "list":[true,"b"` +
		`], "k\u0069nd":"last"} `)
	if err := table.Extract(text, out); err != nil {
		t.Fatal(err)
	}
	for i, want := range []Value{{String, []byte("last")}, {}, {Number, []byte("-4.5e1")}, {String, []byte("b")}} {
		if out[i].Kind != want.Kind || string(out[i].Raw) != string(want.Raw) {
			t.Errorf("field %d is %v %q, want %v %q", i, out[i].Kind, out[i].Raw, want.Kind, want.Raw)
		}
	}
	if out[4].Kind != Object || !json.Valid(out[4].Raw) {
		t.Errorf("the whole text is %v %q", out[4].Kind, out[4].Raw)
	}
	if n := testing.AllocsPerRun(100, func() { _ = table.Extract(text, out) }); n != 0 {
		t.Errorf("%v allocations, want 0", n)
	}
}

// FuzzExtract holds the scanner against encoding/json: both must agree on what
// is JSON, and on the strings in it.
func FuzzExtract(f *testing.F) {
	for _, s := range []string{`{"kind":"a\ud83d\ude00\n"}`, `[1,2.0e-3]`, `{"room":null,"list":[0,false]}`, `{"a":01}`,
		"{\"kind\":\"\xff\"}", `{"kind":"\ud800"}`, `"\u00zz"`, ``} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		table := wanted()
		out := make([]Value, table.Len())
		err := table.Extract(b, out)
		if !utf8Valid(b) {
			return // not what Extract is for, but it must not fall over
		}
		valid := json.Valid(b) && depth(b) <= maxDepth
		if (err == nil) != valid {
			t.Fatalf("Extract(%q) gives %v, encoding/json says valid=%v", b, err, valid)
		}
		if err != nil || out[0].Kind != String {
			return
		}
		var want string
		if json.Unmarshal([]byte(`"`+string(out[0].Raw)+`"`), &want) != nil {
			t.Fatalf("%q is no string", out[0].Raw)
		}
		if !EqualString(out[0].Raw, want) {
			t.Fatalf("%q does not mean %q", out[0].Raw, want)
		}
		var back string
		if err := json.Unmarshal(AppendQuoted(nil, []byte(want)), &back); err != nil || back != want {
			t.Fatalf("%q quoted reads back as %q, %v", want, back, err)
		}
	})
}

func utf8Valid(b []byte) bool { return string([]rune(string(b))) == string(b) }

func depth(b []byte) (most int) {
	d, in := 0, false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case in && c == '\\':
			i++
		case c == '"':
			in = !in
		case in:
		case c == '[' || c == '{':
			d++
			most = max(most, d)
		case c == ']' || c == '}':
			d--
		}
	}
	return most
}

func BenchmarkExtract(b *testing.B) {
	table := wanted()
	out := make([]Value, table.Len())
	text := []byte(`{"kind":"notice","room":"lock-3","from":"pilot-17","seq":1203,"text":"gate turning tpmk00000` +
		`00000000000000000000000000000, stand by"}`)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if err := table.Extract(text, out); err != nil {
			b.Fatal(err)
		}
	}
}
