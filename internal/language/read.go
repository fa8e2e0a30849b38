package language

import (
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"tidepull/internal/expr"
	"tidepull/internal/ledger"
	"tidepull/internal/logbook"
	"tidepull/internal/trial"
)

func (r *reader) readTrial(b *hcl.Block) {
	if b == nil {
		return
	}
	a := r.open(b.Body, "trial").Attributes
	r.trial.Name = b.Labels[0]
	r.trial.Seed = uint64(r.whole(a["seed"], 0, 1<<53, 1))
	r.trial.Prompt = r.duration(a["prompt"], time.Second)
	r.trial.Grace = r.duration(a["grace"], 5*time.Second)
}

func (r *reader) readTarget(b *hcl.Block) {
	if b == nil {
		return
	}
	a := r.open(b.Body, "target").Attributes
	t := &r.trial.Target
	t.Name = b.Labels[0]
	t.WebSocket = r.text(a["websocket"], "")
	at := b.DefRange
	if a["websocket"] != nil {
		at = a["websocket"].Expr.Range()
	}
	if r.options.Target != "" {
		t.WebSocket = r.options.Target
	}
	if t.WebSocket == "" {
		r.fail(at, "the target has no address: give websocket here, or --target on the command line")
	} else if err := checkAddress(t.WebSocket); err != "" {
		r.fail(at, "the target's address %q %s", t.WebSocket, err)
	}
	r.readDialect(r.text(a["dialect"], "plain-json"), a["dialect"], b)
}

// checkAddress tells what is wrong with a ws:// address, or "".
func checkAddress(s string) string {
	u, err := url.Parse(s)
	switch {
	case err != nil:
		return "cannot be read as a URL"
	case u.Scheme == "wss":
		return "asks for TLS, which is not spoken yet; use ws://"
	case u.Scheme != "ws":
		return "must start with ws://"
	case u.Hostname() == "":
		return "names no host"
	}
	return ""
}

// readDialect reads the dialect of a name: the file's own, or a built-in one.
func (r *reader) readDialect(name string, a *hcl.Attribute, target *hcl.Block) {
	b := r.dialects[name]
	if b == nil {
		file := "dialects/" + name + ".dialect.hcl"
		src, err := dialects.ReadFile(file)
		if err != nil {
			at := target.DefRange
			if a != nil {
				at = a.Expr.Range()
			}
			r.fail(at, "there is no dialect %q%s", name, nearest(name, r.dialectNames()))
			return
		}
		for _, block := range r.open(r.parse(src, file), "").Blocks {
			b = block
		}
	}
	d := &r.trial.Dialect
	d.Name = name
	for _, part := range r.open(b.Body, "dialect").Blocks {
		attrs := r.open(part.Body, "dialect."+part.Type).Attributes
		switch part.Type {
		case "name":
			d.Title = r.exchange(attrs)
		case "enter":
			d.Enter = r.exchange(attrs)
		case "leave":
			d.Leave = r.exchange(attrs)
		case "past":
			d.Past = r.condition(attrs["when"])
		}
	}
}

func (r *reader) dialectNames() []string {
	var names []string
	for name := range r.dialects {
		names = append(names, name)
	}
	entries, _ := dialects.ReadDir("dialects")
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".dialect.hcl"))
	}
	return names
}

func (r *reader) exchange(a hcl.Attributes) trial.Exchange {
	send, _ := r.bodyTemplate(a["send"])
	return trial.Exchange{Send: send, Confirmed: r.condition(a["confirmed"]), Refused: r.condition(a["refused"])}
}

func (r *reader) readSession(b *hcl.Block) {
	name := b.Labels[0]
	if old, ok := r.sessions[name]; ok {
		r.fail(b.LabelRanges[0], "there is a session %q already, in line %d", name, old.names.Start.Line)
	}
	s := &trial.Session{Name: name}
	blocks := r.open(b.Body, "session").Blocks
	if len(blocks) == 0 || blocks[0].Type != "connect" {
		r.fail(b.DefRange, "a session starts with connect {}")
	}
	r.readSteps(s, blocks, 0)
	r.sessions[name] = &session{s, b.LabelRanges[0]}
}

func (r *reader) readSteps(s *trial.Session, blocks hcl.Blocks, depth int) {
	for i, b := range blocks {
		content := r.open(b.Body, b.Type)
		a := content.Attributes
		st := trial.Step{}
		switch b.Type {
		case "connect":
			if i > 0 || depth > 0 {
				r.fail(b.DefRange, "connect comes first in a session, and once")
			}
			st.Do, st.Within = trial.Connect, r.duration(a["within"], 10*time.Second)
		case "expect":
			st.Do, st.Label, st.When, st.Within = trial.Expect, b.Labels[0], r.condition(a["when"]), r.duration(a["within"], 5*time.Second)
		case "enter":
			if r.trial.Dialect.Enter.Send == nil && r.trial.Dialect.Name != "" {
				r.fail(b.DefRange, "the dialect %q has no rooms to enter", r.trial.Dialect.Name)
			}
			st.Do, st.Room, st.Within = trial.Enter, r.textTemplate(a["room"]), r.duration(a["within"], 10*time.Second)
		case "leave":
			st.Do, st.Room, st.Within = trial.Leave, r.textTemplate(a["room"]), r.duration(a["within"], 10*time.Second)
		case "pause":
			st.Do, st.For = trial.Pause, r.duration(a["lasts"], time.Second)
		case "say":
			r.readSay(&st, a)
		case "whisper":
			st.Do, st.To, st.Body = trial.Tell, r.textTemplate(a["to"]), r.markedBody(a["body"])
		case "repeat":
			r.readRepeat(s, b, content, depth)
			continue
		}
		s.Steps = append(s.Steps, st)
	}
}

func (r *reader) readSay(st *trial.Step, a hcl.Attributes) {
	st.Do, st.Body, st.Room = trial.Say, r.markedBody(a["body"]), r.textTemplate(a["room"])
	switch r.oneOf(a["reaches"], "room", "others", "everyone", "sender") {
	case 1:
		st.Reaches = ledger.ToOthers
	case 2:
		st.Everyone = true
	case 3:
		st.Reaches = ledger.ToSender
	}
}

// markedBody reads a message that must hold its mark.
func (r *reader) markedBody(a *hcl.Attribute) *expr.Template {
	body, marks := r.bodyTemplate(a)
	if a != nil && marks == 0 {
		r.fail(a.Expr.Range(), "the message holds no ${mark}, so its deliveries could not be recognised")
	}
	return body
}

func (r *reader) readRepeat(s *trial.Session, b *hcl.Block, content *hcl.BodyContent, depth int) {
	a := content.Attributes
	if depth == trial.MaxNesting {
		r.fail(b.DefRange, "repeats are nested more than %d deep", trial.MaxNesting)
		return
	}
	st := trial.Step{Do: trial.Repeat, Every: r.duration(a["every"], time.Second), Times: r.whole(a["times"], 1, 1<<30, 0)}
	if a["jitter"] != nil {
		st.Jitter = r.share(r.text(a["jitter"], "0%"), a["jitter"].Expr.Range())
	}
	if len(content.Blocks) == 0 {
		r.fail(b.DefRange, "there is nothing to repeat")
	}
	at := len(s.Steps)
	s.Steps = append(s.Steps, st)
	r.readSteps(s, content.Blocks, depth+1)
	s.Steps[at].Jump = len(s.Steps)
	s.Steps = append(s.Steps, trial.Step{Do: trial.Again, Jump: at})
}

func (r *reader) readCrew(b *hcl.Block) {
	a := r.open(b.Body, "crew").Attributes
	c := trial.Crew{Name: b.Labels[0], Clients: r.whole(a["clients"], 1, 1<<24, 1), Title: r.textTemplate(a["name"])}
	for _, other := range r.trial.Crews {
		if other.Name == c.Name {
			r.fail(b.LabelRanges[0], "there is a crew %q already", c.Name)
		}
	}
	if c.Title == nil {
		c.Title = &expr.Template{}
		c.Title.Text(c.Name + "-")
		var n expr.Builder
		n.Var(expr.VarN)
		p, _ := n.Build()
		c.Title.Value(p)
	}
	if s := a["session"]; s != nil {
		c.Session = r.sessionOf(s)
	}
	r.trial.Crews = append(r.trial.Crews, c)
}

// sessionOf reads session.NAME or session["NAME"].
func (r *reader) sessionOf(a *hcl.Attribute) *trial.Session {
	names := make([]string, 0, len(r.sessions))
	for name := range r.sessions {
		names = append(names, name)
	}
	t, ok := a.Expr.(*hclsyntax.ScopeTraversalExpr)
	if !ok || len(t.Traversal) != 2 || t.Traversal.RootName() != "session" {
		r.fail(a.Expr.Range(), `write session.NAME, or session["NAME"]`)
		return nil
	}
	name := ""
	switch step := t.Traversal[1].(type) {
	case hcl.TraverseAttr:
		name = step.Name
	case hcl.TraverseIndex:
		if step.Key.Type() == cty.String {
			name = step.Key.AsString()
		}
	}
	s := r.sessions[name]
	if s == nil {
		r.fail(a.Expr.Range(), "there is no session %q%s", name, nearest(name, names))
		return nil
	}
	return s.Session
}

func (r *reader) readTide(b *hcl.Block) {
	if b == nil {
		return
	}
	level := 0.0
	for _, leg := range r.open(b.Body, "tide").Blocks {
		a := r.open(leg.Body, leg.Type).Attributes
		l := trial.Leg{Word: leg.Type, To: level}
		before := level
		switch leg.Type {
		case "flood":
			l.To, l.Over = r.share(leg.Labels[0], leg.LabelRanges[0]), r.duration(a["over"], time.Second)
			if l.To <= before {
				r.fail(leg.LabelRanges[0], "a flood rises; it is at %g %% already", before*100)
			}
		case "slack":
			l.Over = r.duration(a["lasts"], time.Second)
		case "ebb":
			l.To, l.Over = 0, r.duration(a["over"], time.Second)
			if a["to"] != nil {
				l.To = r.share(r.text(a["to"], "0%"), a["to"].Expr.Range())
			}
			if l.To >= before {
				r.fail(leg.DefRange, "an ebb falls; it is at %g %% already", before*100)
			}
		}
		level = l.To
		r.trial.Tide.Legs = append(r.trial.Tide.Legs, l)
	}
	if len(r.trial.Tide.Legs) == 0 {
		r.missing(b.DefRange, "the tide has no flood")
	}
}

func (r *reader) readLimit(b *hcl.Block) {
	a := r.open(b.Body, "limit").Attributes
	l := trial.Limit{Name: b.Labels[0]}
	if a["of"] == nil {
		return
	}
	l.Figure = figureName(a["of"].Expr)
	f := logbook.FigureNamed(l.Figure)
	if f == nil {
		r.fail(a["of"].Expr.Range(), "there is no figure %q%s", l.Figure, nearest(l.Figure, logbook.FigureNames()))
		return
	}
	given := 0
	for i, name := range trial.RuleNames {
		if a[name] == nil {
			continue
		}
		given++
		l.Rule = trial.Rule(i)
		if f.Unit == logbook.Duration {
			l.Value = logbook.Micros(r.duration(a[name], time.Second))
		} else {
			l.Value = float64(r.whole(a[name], 0, 1<<53, 0))
		}
	}
	if given != 1 {
		r.fail(b.DefRange, "a limit has one rule; this one has %d: give one of %s", given, quotedList(slices.Clone(trial.RuleNames[:])))
		return
	}
	r.trial.Limits = append(r.trial.Limits, l)
}

func figureName(e hcl.Expression) string {
	t, ok := e.(*hclsyntax.ScopeTraversalExpr)
	if !ok {
		return ""
	}
	parts := []string{t.Traversal.RootName()}
	for _, step := range t.Traversal[1:] {
		if a, ok := step.(hcl.TraverseAttr); ok {
			parts = append(parts, a.Name)
		}
	}
	return strings.Join(parts, ".")
}
