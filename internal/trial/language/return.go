package language

import (
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/zclconf/go-cty/cty"

	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
)

// readReturn reads how a crew's clients come back.
func (r *reader) readReturn(b *hcl.Block) *trial.Return {
	a := r.open(b.Body, "reconnect").Attributes
	p := &trial.Return{First: r.durationFrom(0, a["first"], 500*time.Millisecond),
		Most: r.duration(a["most"], 30*time.Second), Tries: r.whole(a["tries"], 1, 1<<20, 0),
		Budget: r.duration(a["budget"], 0), Within: r.duration(a["within"], 10*time.Second),
		// A server that says Retry-After is obeyed unless the trial is about what happens if it is not.
		Obey: a["obey"] == nil || r.yes(a["obey"]), CatchUp: r.yes(a["catch_up"]), Anew: r.yes(a["anew"]),
		Jitter: trial.Full}
	p.Factor = r.number(a["factor"], 1, 100, 2)
	if given := a["jitter"]; given != nil {
		names := []string{"full", "equal", "decorrelated", "none"}
		p.Jitter = [...]trial.Jitter{trial.Full, trial.Equal, trial.Decorrelated, trial.NoJitter}[r.oneOf(given,
			names...)]
	}
	if p.Most < p.First { // without most its default may be what is shorter: then the first is the longest
		if given := a["most"]; given != nil {
			r.fail(given.Expr.Range(), "the longest wait, %v, is shorter than the first, %v", p.Most, p.First)
		}
		p.Most = p.First
	}
	if given := a["not_after"]; given != nil {
		p.NotAfter = r.codes(given)
	}
	if given := a["elsewhere"]; given != nil {
		if p.Elsewhere = r.codes(given); len(r.trial.Target.Nodes) < 2 {
			r.fail(given.NameRange, "there is nowhere else: the target has one node")
		}
	}
	p.Resume, _ = r.bodyTemplate(a["resume"])
	p.Resumed = r.condition(a["resumed"])
	switch {
	case p.Resumed != nil && p.Resume == nil:
		r.fail(a["resumed"].NameRange, "resumed goes with resume: what the client says to be put back")
	case p.Resume != nil && p.Anew:
		r.fail(a["anew"].NameRange, "who begins anew resumes nothing; give anew or resume")
	case p.Resume.Uses(expr.VarLast) && r.trial.Dialect.Heard.Seq == nil:
		r.fail(a["resume"].Expr.Range(), "last is the number of a message, and the dialect's heard has no seq")
	}
	if p.Anew && p.CatchUp {
		r.fail(a["anew"].NameRange, "who begins anew catches up on nothing; give anew or catch_up")
	}
	return p
}

// codes reads a list of close codes.
func (r *reader) codes(a *hcl.Attribute) (codes []uint16) {
	v, diags := a.Expr.Value(&r.vars)
	if diags.HasErrors() || v.IsNull() || !v.CanIterateElements() {
		r.fail(a.Expr.Range(), "here stands a list of close codes, such as [1008, 4001]")
		return nil
	}
	for it := v.ElementIterator(); it.Next(); {
		_, code := it.Element()
		if code.Type() != cty.Number {
			r.fail(a.Expr.Range(), "a close code is a number from 1000 to 4999")
			return nil
		}
		n, _ := code.AsBigFloat().Int64()
		if n < 1000 || n > 4999 {
			r.fail(a.Expr.Range(), "a close code is a number from 1000 to 4999, and not %d", n)
			return nil
		}
		codes = append(codes, uint16(n))
	}
	return codes
}
