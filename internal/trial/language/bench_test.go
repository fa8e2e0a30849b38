package language

import (
	"testing"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/zclconf/go-cty/cty"
	"github.com/zclconf/go-cty/cty/function"
	"github.com/zclconf/go-cty/cty/function/stdlib"

	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
)

// BenchmarkCompiled writes a message and tries a condition as they are compiled,
// and as the HCL library evaluates the same syntax, in one run; the metric
// "times" is how many times as long the latter takes.
func BenchmarkCompiled(b *testing.B) {
	const body = `"${upper(name)}: gate ${n % 8 + 1} turning in ${room}, stand by ${mark}"`
	const when = `msg.kind == "notice" && msg.room == room && (msg.seq > 3 || msg.from != name)`
	r := &reader{sources: map[string][]byte{}}
	r.trial.Fields = &jsonscan.Table{}
	attrs, _ := r.parse([]byte("body = "+body+"\nwhen = "+when), "bench").JustAttributes()
	message := []byte(`{"kind":"notice","room":"lock-3","from":"tug-9","seq":12,"text":"gate turning"}`)

	t := &expr.Template{}
	r.textParts(t, attrs["body"].Expr, (*expr.Template).Value)
	condition, _ := r.compile(attrs["when"].Expr, true)
	if r.diags.HasErrors() {
		b.Fatal(r.diags)
	}
	s := &expr.Scope{Fields: make([]jsonscan.Value, r.trial.Fields.Len())}
	s.Vars[expr.VarName], s.Vars[expr.VarRoom], s.Vars[expr.VarMark], s.Vars[expr.VarN] = expr.Str("pilot-3"),
		expr.Str("lock-3"), expr.Str("tpmk0"), expr.Num(3)
	var out []byte
	compiled := func() bool {
		out = t.Append(out[:0], s)
		return r.trial.Fields.Extract(message, s.Fields) == nil && condition.True(s)
	}

	vars := map[string]cty.Value{"name": cty.StringVal("pilot-3"), "room": cty.StringVal("lock-3"),
		"mark": cty.StringVal("tpmk0"), "n": cty.NumberIntVal(3)}
	ctx := &hcl.EvalContext{Variables: vars, Functions: map[string]function.Function{"upper": stdlib.UpperFunc}}
	var texts string
	tree := func() bool {
		msg, err := stdlib.JSONDecode(cty.StringVal(string(message)))
		if err != nil {
			b.Fatal(err)
		}
		vars["msg"] = msg
		v, d1 := attrs["body"].Expr.Value(ctx)
		w, d2 := attrs["when"].Expr.Value(ctx)
		if d1.HasErrors() || d2.HasErrors() {
			b.Fatal(d1, d2)
		}
		texts = v.AsString()
		return w.True()
	}
	if !compiled() || !tree() || string(out) != texts {
		b.Fatalf("%q and %q", out, texts)
	}
	if n := testing.AllocsPerRun(100, func() { compiled() }); n > 2 {
		b.Fatalf("%v allocations", n) // upper makes one
	}
	timed := func(f func() bool) time.Duration {
		began := time.Now()
		for range 2000 {
			f()
		}
		return time.Since(began)
	}
	var a, c time.Duration
	for b.Loop() {
		a, c = a+timed(compiled), c+timed(tree)
	}
	b.ReportMetric(float64(c)/float64(a), "times")
}
