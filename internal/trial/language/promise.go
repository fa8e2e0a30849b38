package language

import (
	"time"

	"github.com/hashicorp/hcl/v2"

	"tidepull/internal/trial"
)

// misdeedWords are what a crew's misbehave and a step's have in common.
var misdeedWords = []word{
	{"do", `"silent", "late", "wrong", "fast", "deaf", "frozen" or "unplugged"`, true, "answer no heartbeats and " +
		"send none; answer them late; answer them with something else; send them too fast; send them and never " +
		"read; neither read nor write; or let nothing in that the server sends, as if the cable was cut"},
	{"by", formDuration, false, `with do = "late": how late; "3s" if it is not given`},
	{"every", formDuration, false, `with do = "fast": from one to the next; "100ms" if it is not given`},
	{"must", `"evicted", "kept" or "either"`, false, "what the server must do about it: close the connection by the " +
		"promised deadline, or leave it alone. If it is not given, it must close those that are silent, frozen or " +
		"unplugged, or whose answers come after the deadline, keep those whose answers come before it, and may do " +
		"either with the others"},
}

// readPromise reads what a target promises about heartbeats.
func (r *reader) readPromise(b *hcl.Block) {
	a := r.open(b.Body, "target.promise").Attributes
	from := r.oneOf(a["from"], "server", "client", "both")
	p := &trial.Promise{Every: r.duration(a["every"], 5*time.Second), Deadline: r.duration(a["deadline"], 0),
		Server: from != 1, Client: from != 0, AnyData: r.yes(a["any_data"]), Tolerance: 0.25}
	if given := a["tolerance"]; given != nil {
		p.Tolerance = r.share(r.text(given, "25%"), given.Expr.Range())
	}
	if given := a["every"]; given != nil && p.Every <= 0 {
		r.fail(given.Expr.Range(), "here stands how long it is from one heartbeat to the next, which is more than 0")
	}
	if p.Every <= 0 {
		p.Every = time.Second
	}
	if r.trial.Target.Promise != nil {
		r.fail(b.DefRange, "there is a second promise; a target has one")
	}
	r.trial.Target.Promise = p
}

// checkPromise reports heartbeats of clients that nothing says how to send.
func (r *reader) checkPromise(target *hcl.Block) {
	t := &r.trial.Target
	if t.Promise != nil && t.Promise.Client && !t.Has(trial.WebSocket) && r.trial.Dialect.Beat.Every == 0 {
		r.fail(target.DefRange, "its clients promise heartbeats, and nothing says what they are: the target has no "+
			"websocket, and its dialect's beat no every and send")
	}
}

// beats reports whether there is anything that clients could misbehave about.
func (r *reader) beats() bool {
	d := &r.trial.Dialect.Beat
	return d.When != nil || d.Every > 0 || r.trial.Target.Has(trial.WebSocket)
}

// readMisdeed reads what a client does wrong on purpose.
func (r *reader) readMisdeed(b *hcl.Block, a hcl.Attributes) trial.Misbehaviour {
	m := trial.Misbehaviour{Do: trial.Misdeed(r.oneOf(a["do"], trial.Misdeeds...)), Share: 1,
		By: r.duration(a["by"], 3*time.Second), Every: r.duration(a["every"], 100*time.Millisecond)}
	promise := r.trial.Target.Promise
	switch given := a["must"]; {
	case given != nil:
		m.Must = [...]trial.Outcome{trial.MustEvict, trial.MustKeep, trial.Either}[r.oneOf(given, "evicted", "kept",
			"either")]
		if m.Must == trial.MustEvict && (promise == nil || promise.Deadline == 0) && a["evicted_within"] == nil {
			r.fail(given.NameRange, "nobody has said by when: the target needs a promise with a deadline")
		}
	case m.Do.Still():
		m.Must = trial.MustEvict
	case m.Do == trial.Slowly && promise != nil && promise.Deadline > 0:
		if m.Must = trial.MustKeep; m.By > promise.Deadline {
			m.Must = trial.MustEvict
		}
	}
	for name, do := range map[string]trial.Misdeed{"by": trial.Slowly, "every": trial.Hurried} {
		if given := a[name]; given != nil && m.Do != do {
			r.fail(given.NameRange, "%s goes with do = %q", name, do.String())
		}
	}
	if given := a["every"]; given != nil && m.Every < time.Millisecond {
		r.fail(given.Expr.Range(), "the least is a millisecond")
	}
	if m.Do == trial.Deaf && promise == nil {
		r.fail(b.DefRange, "how often should it send heartbeats? The target needs a promise")
	}
	if !r.beats() && !m.Do.Blind() {
		r.fail(b.DefRange, "there are no heartbeats that could be answered: the target has no websocket, and its "+
			"dialect has no beat; do can be frozen or unplugged")
	}
	return m
}

// readMisbehave reads how a share of a crew misbehaves.
func (r *reader) readMisbehave(c *trial.Crew, b *hcl.Block) {
	a := r.open(b.Body, "crew.misbehave").Attributes
	m := r.readMisdeed(b, a)
	m.After = r.durationFrom(0, a["after"], 0)
	all := 0.0
	if given := a["share"]; given != nil {
		m.Share = r.share(r.text(given, "100%"), given.Expr.Range())
	}
	for _, other := range c.Misbehave {
		all += other.Share
	}
	if all+m.Share > 1+1e-9 {
		r.fail(b.DefRange, "together more than all of the crew's clients misbehave")
	}
	c.Misbehave = append(c.Misbehave, m)
}
