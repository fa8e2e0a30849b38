package language

import (
	"net/url"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/zclconf/go-cty/cty"
	"github.com/zclconf/go-cty/cty/convert"

	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
)

func escaped(s string) string { return url.QueryEscape(s) }

// readFeed reads a feed: what the server pushes by itself, and how it is judged.
func (r *reader) readFeed(b *hcl.Block) {
	a := r.open(b.Body, "feed").Attributes
	f := trial.Feed{Name: b.Labels[0], When: r.condition(a["when"]), Key: r.condition(a["key"]),
		Seq: r.condition(a["seq"]), Time: r.condition(a["time"]), Value: r.condition(a["value"]),
		Fresh: r.duration(a["fresh"], 0), Every: r.duration(a["every"], 0), Same: r.yes(a["same"]),
		Check: r.check(b.Labels[0], "feed")}
	if !f.JudgedAlone() && !f.Same {
		r.fail(b.DefRange, "a feed is judged by its seq, its time, how often it comes (every), or by all clients "+
			"being "+
			"given the same: give one")
	}
	if f.Fresh > 0 && f.Time == nil {
		r.fail(a["fresh"].Expr.Range(), "how old it is can be known only from its time")
	}
	if f.When != nil {
		r.trial.Feeds = append(r.trial.Feeds, f)
	}
}

// readFinalCheck reads a question to the server, or a command, for when the run is
// over, and what must hold of the answer and the run's figures.
func (r *reader) readFinalCheck(b *hcl.Block) {
	content := r.open(b.Body, "final_check")
	a := content.Attributes
	k := trial.FinalCheck{Name: b.Labels[0], Within: r.duration(a["within"], 10*time.Second)}
	for i, q := range content.Blocks {
		if i > 0 {
			r.fail(q.DefRange, "there is a second request; a final_check has one")
			continue
		}
		qa := r.open(q.Body, "final_check.request").Attributes
		k.Request = trial.Request{Path: r.textTemplate(qa["path"]), Method: r.text(qa["method"], "GET"),
			Fields: r.fields(qa["headers"]), Type: r.text(qa["type"], "text/plain")}
		if k.Request.Path == nil {
			k.Request.Path = &expr.Template{}
		}
		if qa["body"] != nil {
			k.Request.Content = r.plainBody(qa["body"])
		}
	}
	if c := a["command"]; c != nil {
		k.Command = r.texts(c)
	}
	if (len(content.Blocks) == 0) == (k.Command == nil) {
		r.fail(b.DefRange, "a final_check asks with a request {} or a command")
	}
	r.figures = &k.Figures
	k.Holds = r.condition(a["holds"])
	r.figures = nil
	if k.Holds != nil {
		r.trial.FinalChecks = append(r.trial.FinalChecks, k)
	}
}

// readAlert reads a command for when something has happened to the run.
func (r *reader) readAlert(b *hcl.Block) {
	a := r.open(b.Body, "on").Attributes
	alert := trial.Alert{On: b.Labels[0], Command: r.texts(a["command"]), Within: r.duration(a["within"],
		10*time.Second)}
	if alert.On != trial.OnBroken && alert.On != trial.OnOver {
		r.fail(b.LabelRanges[0], `there is on "broken" and on "over"%s`, nearest(alert.On, []string{trial.OnBroken,
			trial.OnOver}))
	}
	r.trial.Alerts = append(r.trial.Alerts, alert)
}

// texts reads a list of fixed texts; nil if it is not given.
func (r *reader) texts(a *hcl.Attribute) (all []string) {
	if a == nil {
		return nil
	}
	v, diags := a.Expr.Value(&r.vars)
	if diags.HasErrors() || !v.IsWhollyKnown() || v.IsNull() || !v.CanIterateElements() || v.LengthInt() == 0 {
		r.fail(a.Expr.Range(), "write a list of texts")
		return nil
	}
	for it := v.ElementIterator(); it.Next(); {
		_, e := it.Element()
		text, err := convert.Convert(e, cty.String) // "${var.port}" alone is a number
		if err != nil || text.IsNull() {
			r.fail(a.Expr.Range(), "write a list of texts")
			return nil
		}
		all = append(all, text.AsString())
	}
	return all
}
