package expr

import (
	"encoding/json"
	"math"
	"testing"

	"tidepull/internal/wire/jsonscan"
)

func program(t *testing.T, f func(*Builder)) *Program {
	t.Helper()
	var b Builder
	f(&b)
	p, err := b.Build()
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestTemplates writes values of each kind as text, inside a JSON string, and
// as a JSON value; whatever a variable holds, the JSON stays JSON.
func TestTemplates(t *testing.T) {
	name := program(t, func(b *Builder) { b.Var(VarName) })
	for _, v := range []Value{Str(`berth "4"`), Str("\x00\x1b[2J\n\\"), Str("Schleuse 水"), Str("\xff"), Num(3),
		Num(-2.5), Num(1e21), Truth(true), {}} {
		var s Scope
		s.Vars[VarName] = v
		var tmpl Template
		tmpl.Text(`{"in":"a `)
		tmpl.Quoted(name)
		tmpl.Text(` b","as":`)
		tmpl.JSON(name)
		tmpl.Text(`}`)
		out := tmpl.Append(nil, &s)
		var back struct {
			In string
			As any
		}
		if err := json.Unmarshal(out, &back); err != nil {
			t.Errorf("%q is no JSON: %v", out, err)
			continue
		}
		want := string(v.Append(nil))
		if string([]rune(want)) == want && back.In != "a "+want+" b" {
			t.Errorf("%q reads back as %q", want, back.In)
		}
		switch v.Kind {
		case Number:
			if back.As != v.Num {
				t.Errorf("%v reads back as %v", v.Num, back.As)
			}
		case Bool:
			if back.As != v.True() {
				t.Errorf("%v reads back as %v", v.True(), back.As)
			}
		case Missing:
			if back.As != nil {
				t.Errorf("nothing reads back as %v", back.As)
			}
		}
	}
}

// TestShortcuts: the right side of && and || is not evaluated if the left
// decides, and the result is always a truth.
func TestShortcuts(t *testing.T) {
	field := func(i int) func(*Builder) { return func(b *Builder) { b.Field(i) } }
	values := []jsonscan.Value{{Kind: jsonscan.Bool, Raw: []byte("true")}, {Kind: jsonscan.Bool, Raw: []byte("false")},
		{Kind: jsonscan.Number, Raw: []byte("1")}, {}}
	for i := range values {
		for k := range values {
			s := Scope{Fields: values}
			and := program(t, func(b *Builder) { b.And(func() { field(i)(b) }, func() { field(k)(b) }) })
			or := program(t, func(b *Builder) { b.Or(func() { field(i)(b) }, func() { field(k)(b) }) })
			if a := and.Eval(&s); a.Kind != Bool || a.True() != (i == 0 && k == 0) {
				t.Errorf("%d and %d is %+v", i, k, a)
			}
			if o := or.Eval(&s); o.Kind != Bool || o.True() != (i == 0 || k == 0) {
				t.Errorf("%d or %d is %+v", i, k, o)
			}
		}
	}
}

// TestMayHold: what MayHold rules out never holds.
func TestMayHold(t *testing.T) {
	is := func(text string) *Program {
		return program(t, func(b *Builder) { b.Field(0); b.Const(Str(text)); b.Do(Equal) })
	}
	var table jsonscan.Table
	table.Add("kind")
	out := make([]jsonscan.Value, 1)
	ruledOut := 0
	for _, text := range []string{"past", "", `a"b`, "水", "\n"} {
		p := is(text)
		for _, msg := range []string{`{"kind":"past"}`, `{"kind":"p\u0061st"}`, `{"kind":"notice","text":"past"}`,
			`{"kind":"notice"}`, `{"kind":""}`, `{"kind":"a\"b"}`, `{"kind":"水"}`, `{"kind":"\u6c34"}`,
			`{"kind":"\\n"}`} {
			if err := table.Extract([]byte(msg), out); err != nil {
				t.Fatal(err)
			}
			holds := p.True(&Scope{Fields: out})
			if holds && !p.MayHold([]byte(msg)) {
				t.Errorf("%q is ruled out in %s, and holds", text, msg)
			}
			if !p.MayHold([]byte(msg)) {
				ruledOut++
			}
		}
	}
	if ruledOut < 5 {
		t.Errorf("only %d were ruled out", ruledOut)
	}
}

// TestDepth: an expression that the stack cannot hold is refused when it is
// built, and one that just fits is evaluated.
func TestDepth(t *testing.T) {
	deep := func(n int) (*Program, error) {
		var b Builder
		for range n {
			b.Const(Num(1))
		}
		for range n - 1 {
			b.Do(Add)
		}
		return b.Build()
	}
	p, err := deep(stackDepth)
	if err != nil || p.Eval(&Scope{}).Num != stackDepth {
		t.Errorf("%v", err)
	}
	if _, err := deep(stackDepth + 1); err == nil {
		t.Error("too deep, and not refused")
	}
}

// TestWrongTypes: arithmetic on what is no number gives nothing, and comparing
// it is false; nothing panics.
func TestWrongTypes(t *testing.T) {
	values := []Value{Str("a"), {}, Truth(true), Num(0), {Kind: JSON, Str: []byte("[]")}}
	for _, a := range values {
		for _, b := range values {
			for op := Equal; op <= GreaterEqual; op++ {
				p := program(t, func(bl *Builder) { bl.Const(a); bl.Const(b); bl.Do(op) })
				v := p.Eval(&Scope{})
				bothNumbers := a.Kind == Number && b.Kind == Number
				switch {
				case op <= Unequal || op >= Less:
					if v.Kind != Bool || !bothNumbers && op >= Less && v.True() {
						t.Errorf("%+v %d %+v is %+v", a, op, b, v)
					}
				case !bothNumbers && v.Kind != Missing:
					t.Errorf("%+v %d %+v is %+v", a, op, b, v)
				}
			}
		}
	}
}

// TestWildNumbers: numbers that a server, or a trial, may come up with do not
// panic and do not wrap round.
func TestWildNumbers(t *testing.T) {
	for _, n := range []float64{1e300, -1e300, math.NaN(), math.Inf(1), math.Inf(-1), -1, 2.5, 1 << 53, 1<<53 + 2} {
		for _, name := range []string{"awkward", "filler", "random_bytes", "substr"} {
			f := FunctionNamed(name)
			args := []Value{Num(n)}
			if name == "substr" {
				args = []Value{Str("gate turning"), Num(n), Num(n)}
			}
			if name != "awkward" && name != "substr" && n > 1e6 {
				continue // as much as is allowed, which is much
			}
			if v := f.do(&Scope{}, args); len(v.Str) > maxText {
				t.Errorf("%s(%v) gives %d bytes", name, n, len(v.Str))
			}
		}
		whole, ok := Num(n).Int()
		if want := n == math.Trunc(n) && math.Abs(n) <= 1<<53; ok != want || ok && float64(whole) != n {
			t.Errorf("%v is the whole number %d, %v", n, whole, ok)
		}
	}
	if v := FunctionNamed("substr").do(&Scope{}, []Value{Str("gate turning"), Num(5),
		Num(1e300)}); string(v.Str) != "turning" {
		t.Errorf("the rest is %q", v.Str)
	}
}

// TestNumbersAsTexts: a function of texts gives the same for a number as for the text that it makes.
func TestNumbersAsTexts(t *testing.T) {
	for _, f := range Functions() {
		if f.Args != "text" || f.Name == "length" {
			continue
		}
		for _, n := range []float64{0, 7, 1234567, -2.5} {
			text := Num(n).Append(nil)
			want := f.do(&Scope{}, []Value{{Kind: String, Str: text}})
			s := &Scope{buf: make([]byte, 0, 256)} // as it is once it has grown
			if got := f.do(s, []Value{Num(n)}); got.Kind != want.Kind || string(got.Str) != string(want.Str) {
				t.Errorf("%s(%s) is %q, and of the text %q", f.Name, text, got.Str, want.Str)
			}
		}
	}
}

// TestOfMessage: what names a client, the time or chance is not the same for all who get a message.
func TestOfMessage(t *testing.T) {
	for name, tc := range map[string]struct {
		build func(*Builder)
		want  bool
	}{
		"a field":     {func(b *Builder) { b.Field(0) }, true},
		"the text":    {func(b *Builder) { b.Var(VarText) }, true},
		"the name":    {func(b *Builder) { b.Var(VarName) }, false},
		"what it has": {func(b *Builder) { b.Local(0) }, false},
		"a column":    {func(b *Builder) { b.Column(0) }, false},
		"a function":  {func(b *Builder) { b.Field(0); b.Call(FunctionNamed("sha256"), 1) }, true},
		"the time":    {func(b *Builder) { b.Call(FunctionNamed("now"), 0) }, false},
		"chance":      {func(b *Builder) { b.Call(FunctionNamed("uuid"), 0) }, false},
	} {
		if p := program(t, tc.build); p.OfMessage() != tc.want {
			t.Errorf("%s: %v", name, p.OfMessage())
		}
	}
}

// TestLists: how many items a list has, and which; what is no list has none.
func TestLists(t *testing.T) {
	list := Value{Kind: JSON, Str: []byte(` [ "Alder", "B\u0069rch", 7, null, true, ["Cedar"] ] `)}
	if n := FunctionNamed("count").do(&Scope{}, []Value{list}); n.Kind != Number || n.Num != 6 {
		t.Errorf("it has %+v items", n)
	}
	for _, tc := range []struct {
		in, what Value
		want     bool
	}{
		{list, Str("Alder"), true}, {list, Str("Birch"), true}, {list, Num(7), true}, {list, Value{}, true},
		{list, Truth(true), true}, {list, Str("Cedar"), false}, {list, Str("7"), false}, {list, Str("lder"), false},
		{Str("Alder"), Str("Alder"), false}, {Value{}, Value{}, false},
		{Value{Kind: JSON, Str: []byte(`{"a":"Alder"}`)}, Str("Alder"), false},
	} {
		if got := FunctionNamed("has").do(&Scope{}, []Value{tc.in, tc.what}); got.True() != tc.want {
			t.Errorf("%s has %+v: %v", tc.in.Str, tc.what, got.True())
		}
	}
	for _, no := range []Value{{}, Str("[1]"), Num(3), {Kind: JSON, Str: []byte(`{"a":[1]}`)}} {
		if n := FunctionNamed("count").do(&Scope{}, []Value{no}); n.Kind != Missing {
			t.Errorf("%+v has %v items", no, n.Num)
		}
	}
}
