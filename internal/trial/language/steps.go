package language

import (
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
)

type captured = trial.Capture

// readSession compiles a session to a flat list of steps, with jumps: a client is one
// place in it, and needs no stack.
func (r *reader) readSession(b *hcl.Block) {
	name := b.Labels[0]
	if old, ok := r.sessions[name]; ok {
		r.fail(b.LabelRanges[0], "there is a session %q already, in line %d", name, old.names.Start.Line)
	}
	s := &trial.Session{Name: name}
	blocks := r.open(b.Body, "session").Blocks
	if len(blocks) == 0 {
		r.fail(b.DefRange, "the session has no steps; it starts with connect {}, or with a request")
	}
	connected := false
	for _, step := range blocks {
		switch step.Type {
		case "connect":
			connected = true
		case "request", "pause", "stay", "set", "assert", "barrier", "when", "otherwise", "choose", "repeat":
		default:
			// What is before connect goes over HTTP, or over nothing: a log-in, a pause, a value.
			if !connected {
				r.fail(step.DefRange, "a session connects first: there is no connect {} before this")
				connected = true // said once
			}
		}
	}
	r.readSteps(s, blocks, 0)
	r.sessions[name] = &session{s, b.LabelRanges[0]}
}

// check gives the number of a check with this name, of a kind.
func (r *reader) check(name, kind string) int {
	for i, c := range r.trial.Checks {
		if c.Name == name && c.Kind == kind {
			return i
		}
	}
	r.trial.Checks = append(r.trial.Checks, trial.Check{Name: name, Kind: kind})
	return len(r.trial.Checks) - 1
}

// readSteps appends the steps of blocks, depth repeats deep.
func (r *reader) readSteps(s *trial.Session, blocks hcl.Blocks, depth int) {
	for i, b := range blocks {
		if b.Type == "set" {
			s.Steps = append(s.Steps, r.readSet(b))
			continue
		}
		content := r.open(b.Body, b.Type)
		a := content.Attributes
		r.checkTransport(b, a)
		switch b.Type {
		case "repeat":
			r.readRepeat(s, b, content, depth)
		case "choose":
			r.readChoose(s, b, content, depth)
		case "when":
			var other *hcl.Block
			if i+1 < len(blocks) && blocks[i+1].Type == "otherwise" {
				other = blocks[i+1]
			}
			r.readWhen(s, content, other, depth)
		case "otherwise":
			if i == 0 || blocks[i-1].Type != "when" {
				r.fail(b.DefRange, "otherwise stands behind a when")
			}
		case "ask":
			// Two steps; Named: the question waits until the server knows who asks.
			s.Steps = append(s.Steps, trial.Step{Do: trial.Send, Check: trial.NoCheck, Body: r.plainBody(a["send"]),
				Binary: r.binary(a), Named: true, Within: r.duration(a["within"], 5*time.Second)},
				trial.Step{Do: trial.Expect, Label: b.Labels[0], Check: r.check(b.Labels[0], "ask"),
					When: r.condition(a["when"]), Within: r.duration(a["within"], 5*time.Second),
					Capture: r.captures(a["capture"])})
		case "say", "whisper":
			r.readSay(s, b, a)
		default:
			s.Steps = append(s.Steps, r.readStep(b, a))
		}
	}
}

// urgent reads whether a step's message goes in a datagram.
func (r *reader) urgent(a hcl.Attributes) bool {
	given := a["urgent"]
	if given == nil {
		return false
	}
	if !slices.ContainsFunc(r.trial.Target.Routes, func(w trial.Route) bool { return w.Urgent != nil }) {
		r.fail(given.NameRange, "the target has no urgent address, such as urgent = \"udp://127.0.0.1:7411\"")
	}
	return r.yes(given)
}

// figuresWithin is how long an assert waits for figures, which are told of four times a
// second.
const figuresWithin = 10 * time.Second

// readStep reads a step that stands as one.
func (r *reader) readStep(b *hcl.Block, a hcl.Attributes) trial.Step {
	st := trial.Step{Check: trial.NoCheck, History: -1, Capture: r.captures(a["capture"])}
	switch b.Type {
	case "connect":
		st.Do, st.Within, st.Dial = trial.Connect, r.duration(a["within"], 10*time.Second), r.dial(a)
		switch d := st.Dial; {
		case d != nil && d.Wrong == trial.AnyWrong:
			st.Check = r.check("refuses handshakes that break the protocol", "malformed")
		case d != nil && d.Wrong != "":
			st.Check = r.check("refuses a handshake with "+d.Wrong, "malformed")
		case d != nil && d.Refused && a["origin"] != nil:
			st.Check = r.check("a connection from an origin that must be refused", "origin")
		case d != nil && d.Refused:
			st.Check = r.check("a connection that must be refused", "refused")
		case a["status"] != nil || a["words"] != nil:
			r.fail(b.DefRange, "status and words say how a connection must be refused; give refused = true")
		}
	case "assert":
		r.figures = &r.trial.Asserted
		st.Do, st.When, st.Check = trial.Assert, r.condition(a["that"]), r.check(b.Labels[0], "assert")
		st.Within, r.figures = figuresWithin, nil
	case "expect_close":
		st.Do, st.Within, st.Check = trial.Closed, r.duration(a["within"], 5*time.Second),
			r.check(b.Labels[0], "expect_close")
		st.Code, st.Reason, st.Abrupt = uint16(r.whole(a["code"], 1000, 4999, 0)), r.text(a["reason"], ""),
			r.yes(a["abrupt"])
		if st.Abrupt && (st.Code != 0 || st.Reason != "") {
			r.fail(b.DefRange, "what ends without a close frame has no code and no reason")
		}
	case "request":
		r.readRequest(&st, b, a)
	case "expect":
		st.Do, st.Label, st.When, st.Within = trial.Expect, b.Labels[0], r.condition(a["when"]),
			r.duration(a["within"], 5*time.Second)
		st.Never, st.Already, st.Check = r.yes(a["never"]), r.yes(a["already"]), r.check(b.Labels[0], "expect")
	case "enter":
		r.readEnter(&st, b, a)
	case "leave":
		st.Do, st.Room, st.Within = trial.Leave, r.textTemplate(a["room"]), r.duration(a["within"], 10*time.Second)
	case "pause":
		st.Do, st.For, st.Most = trial.Pause, r.duration(a["lasts"], time.Second), r.duration(a["most"], 0)
	case "stay":
		st.Do, st.For = trial.Pause, trial.ForGood
	case "send":
		st.Do = trial.Send
		st.Body, st.Binary = r.content(b, a, false, 0)
		st.Urgent, st.Bad = r.urgent(a), r.yes(a["bad"])
	case "barrier":
		st.Do, st.Within = trial.Wait, r.duration(a["within"], time.Minute)
		scope := trial.BarrierScope(r.oneOf(a["among"], "all", "crew", "group"))
		st.Barrier = len(r.trial.Barriers) // sessions meet at one of the same name and scope
		for i, known := range r.trial.Barriers {
			if known.Name == b.Labels[0] && known.Scope == scope {
				st.Barrier = i
			}
		}
		if st.Barrier == len(r.trial.Barriers) {
			r.trial.Barriers = append(r.trial.Barriers,
				trial.Barrier{Name: b.Labels[0], Scope: scope, Check: r.check(b.Labels[0], "barrier")})
		}
	case "close":
		st.Do, st.Code, st.Reason = trial.Close, uint16(r.whole(a["code"], 1000, 4999, 1000)), r.text(a["reason"], "")
		if len(st.Reason) > 123 {
			r.fail(a["reason"].Expr.Range(), "a reason has at most 123 bytes")
		}
	case "vanish":
		st.Do = trial.Vanish
	case "fall_silent":
		st.Do, st.Misbehave = trial.Silence, &trial.Misbehaviour{Do: trial.Silent, Must: trial.MustEvict}
		if a["evicted_within"] != nil {
			st.Within, st.Check = r.duration(a["evicted_within"], time.Minute),
				r.check("a silent client is evicted", "fall_silent")
		}
	case "misbehave":
		m := r.readMisdeed(b, a)
		st.Do, st.Misbehave = trial.Silence, &m
		if a["evicted_within"] != nil {
			st.Within, st.Check = r.duration(a["evicted_within"], time.Minute),
				r.check("a client that misbehaves is evicted: "+m.Do.String(), "misbehave")
		}
	case "read_slowly":
		st.Do, st.PerSec = trial.Slow, r.whole(a["bytes_per_second"], 0, 1<<40, 0)
		if a["evicted_within"] != nil {
			st.Within, st.Check = r.duration(a["evicted_within"], time.Minute),
				r.check("a slow reader is evicted", "read_slowly")
			if st.PerSec == 0 {
				r.fail(a["evicted_within"].Range, "a client that reads as fast as it can is not evicted for it; "+
					"give bytes_per_second above 0")
			}
		}
	case "malformed":
		st.Do, st.Within = trial.Malform, r.duration(a["within"], 5*time.Second)
		st.Wrong = trial.Wrongs[r.oneOf(a["what"], trial.Wrongs...)]
		name := "closes at " + st.Wrong
		if st.Wrong == trial.AnyWrong {
			name = "closes who breaks the protocol"
		}
		st.Check = r.check(name, "malformed")
	}
	return st
}

// readEnter reads an enter step; with denied set it passes if the server refuses.
func (r *reader) readEnter(st *trial.Step, b *hcl.Block, a hcl.Attributes) {
	if !r.trial.Dialect.Enter.Given && r.trial.Dialect.Name != "" {
		r.fail(b.DefRange, "the dialect %q has no rooms to enter", r.trial.Dialect.Name)
	}
	st.Do, st.Room, st.Within = trial.Enter, r.textTemplate(a["room"]), r.duration(a["within"], 10*time.Second)
	if a["history"] != nil {
		st.History, st.Check = r.whole(a["history"], 0, 1<<20, 0), r.check("the history of late comers", "history")
		if r.trial.Dialect.Past == nil {
			r.fail(a["history"].Expr.Range(), "the dialect %q does not tell how history looks", r.trial.Dialect.Name)
		}
	}
	if st.Denied = r.yes(a["denied"]); st.Denied {
		st.Check = r.check("an entry that must be denied", "denied")
		if r.trial.Dialect.Enter.Refused == nil {
			r.fail(a["denied"].Expr.Range(), "the dialect %q does not tell how a refusal looks", r.trial.Dialect.Name)
		}
	}
}

// readSay reads a say or a whisper. One that must be refused is two steps: the
// message, which must reach nobody, and an expect for the refusal.
func (r *reader) readSay(s *trial.Session, b *hcl.Block, a hcl.Attributes) {
	st := trial.Step{Do: trial.Say, Check: trial.NoCheck, Room: r.textTemplate(a["room"])}
	inPayload := 0
	if a["payload"] != nil {
		st.Payload = &expr.Template{}
		inPayload = r.textParts(st.Payload, a["payload"].Expr, (*expr.Template).Value)
	}
	st.Known = r.knownBy(a)
	st.Body, st.Binary = r.content(b, a, st.Known == 0, inPayload)
	st.Urgent = r.urgent(a)
	if st.Known > 0 {
		r.checkUnmarked(&st, a)
	}
	if b.Type == "whisper" {
		st.Do, st.To = trial.Tell, r.textTemplate(a["to"])
	}
	switch r.oneOf(a["reaches"], "room", "others", "everyone", "sender", "nobody") {
	case 1:
		st.Reaches = ledger.ToOthers
	case 2:
		st.All = true
	case 3:
		st.Reaches = ledger.ToSender
	case 4:
		st.Reaches = ledger.ToNobody
	}
	if a["refused"] != nil {
		st.Reaches = ledger.ToNobody
	}
	s.Steps = append(s.Steps, st)
	if a["refused"] != nil {
		const name = "a message that must be refused"
		s.Steps = append(s.Steps, trial.Step{Do: trial.Expect, Label: name, Check: r.check(name, "refused"),
			When: r.condition(a["refused"]), Within: r.duration(a["within"], 5*time.Second)})
	}
}

// knownBy reads how deliveries without a mark are recognised, as Step.Known has it.
func (r *reader) knownBy(a hcl.Attributes) int {
	if a["known_by"] == nil {
		if a["known_from"] != nil {
			r.fail(a["known_from"].Range, "it says of whom a delivery is that known_by recognises: give known_by, too")
		}
		return 0
	}
	r.trial.Knowns = append(r.trial.Knowns, trial.Known{When: r.condition(a["known_by"]),
		From: r.condition(a["known_from"])})
	return len(r.trial.Knowns)
}

// checkUnmarked reports what needs a mark in a message that is known by a condition.
func (r *reader) checkUnmarked(st *trial.Step, a hcl.Attributes) {
	switch {
	case st.Payload != nil:
		r.fail(a["payload"].Range, "what known_by recognises is something of the server's own: there is no payload "+
			"to be found in it")
	case st.Urgent:
		r.fail(a["urgent"].Range, "what is lost of datagrams is known by their marks: known_by is for streams")
	case st.Body.Times(expr.VarMark)+st.Body.Times(expr.VarMarkBytes) > 0:
		r.fail(a["known_by"].Range, "the message holds ${mark}, by which its deliveries are recognised; leave out "+
			"one of the two")
	}
}

// binary reads whether a step's message is a binary one.
func (r *reader) binary(a hcl.Attributes) bool {
	if a["binary"] == nil {
		return r.trial.Dialect.Binary
	}
	return r.yes(a["binary"])
}

// plainBody reads a message in which no mark is needed.
func (r *reader) plainBody(a *hcl.Attribute) *expr.Template {
	body, _ := r.bodyTemplate(a)
	return body
}

// content reads a message: a body, digits or a file. One that is accounted for
// must hold its mark; digits and files get it behind them.
func (r *reader) content(b *hcl.Block, a hcl.Attributes, accounted bool, inPayload int) (t *expr.Template,
	binary bool) {
	given := 0
	for _, name := range []string{"body", "hex", "file"} {
		if a[name] != nil {
			given++
		}
	}
	if given != 1 {
		r.fail(b.DefRange, "give one of body, hex and file")
		return &expr.Template{}, false
	}
	if a["body"] != nil {
		body, marks := r.bodyTemplate(a["body"])
		if accounted && marks+inPayload == 0 {
			r.fail(a["body"].Expr.Range(), "the message holds no ${mark}, so its deliveries could not be recognised; "+
				"if the server says something of its own instead, say by what it is known (known_by)")
		}
		return body, r.binary(a)
	}
	t = &expr.Template{}
	var bytes []byte
	if a["hex"] != nil {
		var err error
		if bytes, err = hex.DecodeString(strings.Join(strings.Fields(r.text(a["hex"], "")), "")); err != nil {
			r.fail(a["hex"].Expr.Range(), "these are no hexadecimal digits, two for each byte")
		}
	} else {
		bytes, _ = r.readBeside(a["file"])
	}
	t.Text(string(bytes))
	if accounted { // in its binary form: the text's alphabet would not survive in bytes that mean something
		var v expr.Builder
		v.Var(expr.VarMarkBytes)
		p, _ := v.Build()
		t.Value(p)
	}
	return t, true
}

// readSet reads a set step; its attributes are names of the writer's own.
func (r *reader) readSet(b *hcl.Block) trial.Step {
	st := trial.Step{Do: trial.Set, Check: trial.NoCheck}
	attrs, diags := b.Body.JustAttributes()
	r.diags = append(r.diags, diags...)
	for _, name := range keys(attrs) {
		p, _ := r.compile(attrs[name].Expr, false)
		st.Capture = append(st.Capture, captured{Local: r.locals[name], Value: p})
	}
	return st
}

// readRepeat reads a repeat: its step, those in it, and the step that goes back. A
// rate is kept as the time between two iterations.
func (r *reader) readRepeat(s *trial.Session, b *hcl.Block, content *hcl.BodyContent, depth int) {
	a := content.Attributes
	if depth == trial.MaxNesting {
		r.fail(b.DefRange, "repeats are nested more than %d deep", trial.MaxNesting)
		return
	}
	rate := &trial.Rate{Times: r.whole(a["times"], 1, 1<<30, 0), Burst: r.whole(a["burst"], 1, 1<<20, 1)}
	closed := r.yes(a["closed"])
	switch {
	case a["every"] != nil && a["rate"] == nil && !closed:
		rate.Every = r.duration(a["every"], time.Second)
	case a["rate"] != nil && a["every"] == nil && !closed:
		rate.Every = r.interval(a["rate"])
	case closed && a["every"] == nil && a["rate"] == nil:
		r.trial.ClosedLoop = true // every view says so: the server sets the pace, and latencies flatter it
		if !waits(content.Blocks) {
			r.fail(b.DefRange, "a closed repeat goes on as fast as answers come, but nothing in it waits for one: "+
				"put an expect, an ask or a request into it")
		}
	default:
		r.fail(b.DefRange, "give one of every, rate and closed")
		rate.Every = time.Second
	}
	rate.Random = r.oneOf(a["pattern"], "steady", "poisson") == 1
	rate.Shared = trial.Sharing(r.oneOf(a["per"], "client", "crew", "room"))
	if a["jitter"] != nil {
		rate.Jitter = r.share(r.text(a["jitter"], "0%"), a["jitter"].Expr.Range())
	}
	if len(content.Blocks) == 0 {
		r.fail(b.DefRange, "there is nothing to repeat")
	}
	at := len(s.Steps) // its end is known, and Goto set, once what is in it has been read
	s.Steps = append(s.Steps, trial.Step{Do: trial.Repeat, Check: trial.NoCheck, Repeat: rate})
	r.readSteps(s, content.Blocks, depth+1)
	s.Steps[at].Goto = len(s.Steps)
	s.Steps = append(s.Steps, trial.Step{Do: trial.Again, Check: trial.NoCheck, Goto: at})
}

// waits reports whether any of the steps waits for the server, or for time.
func waits(blocks hcl.Blocks) bool {
	for _, b := range blocks {
		switch b.Type {
		case "expect", "ask", "request", "pause", "enter", "leave":
			return true
		}
	}
	return false
}

// readChoose reads a weighted choice. Weights become bounds between 0 and 1, so that a
// client needs one random number.
func (r *reader) readChoose(s *trial.Session, b *hcl.Block, content *hcl.BodyContent, depth int) {
	if len(content.Blocks) == 0 {
		r.fail(b.DefRange, "there is nothing to choose from")
		return
	}
	at := len(s.Steps)
	s.Steps = append(s.Steps, trial.Step{Do: trial.Choose, Check: trial.NoCheck})
	var options []trial.Option
	var jumps []int
	sum := 0.0
	for _, o := range content.Blocks {
		inner := r.open(o.Body, "option")
		sum += r.number(inner.Attributes["weight"], 0, 1e9, 1)
		options = append(options, trial.Option{Below: sum, Goto: len(s.Steps)})
		r.readSteps(s, inner.Blocks, depth)
		jumps = append(jumps, len(s.Steps))
		s.Steps = append(s.Steps, trial.Step{Do: trial.Jump, Check: trial.NoCheck})
	}
	if sum == 0 {
		r.fail(b.DefRange, "all weights are 0")
		sum = 1
	}
	for i := range options {
		options[i].Below /= sum
	}
	for _, j := range jumps {
		s.Steps[j].Goto = len(s.Steps)
	}
	s.Steps[at].Options = options
}

// readWhen reads a when with the otherwise that may follow it: a branch that jumps if
// the condition does not hold.
func (r *reader) readWhen(s *trial.Session, content *hcl.BodyContent, other *hcl.Block, depth int) {
	var that *expr.Program
	if a := content.Attributes["that"]; a != nil {
		that, _ = r.compile(a.Expr, false)
	}
	at := len(s.Steps)
	s.Steps = append(s.Steps, trial.Step{Do: trial.Branch, Check: trial.NoCheck, When: that})
	r.readSteps(s, content.Blocks, depth)
	if other == nil {
		s.Steps[at].Goto = len(s.Steps)
		return
	}
	over := len(s.Steps)
	s.Steps = append(s.Steps, trial.Step{Do: trial.Jump, Check: trial.NoCheck})
	s.Steps[at].Goto = len(s.Steps)
	r.readSteps(s, r.open(other.Body, "otherwise").Blocks, depth)
	s.Steps[over].Goto = len(s.Steps)
}

// dial reads what is special about a connection; nil if nothing is.
func (r *reader) dial(a hcl.Attributes) *trial.Dial {
	d := &trial.Dial{Path: r.textTemplate(a["path"]), Fields: r.fields(a["headers"]), Nameless: r.yes(a["nameless"]),
		Refused: r.yes(a["refused"]), Status: r.whole(a["status"], 100, 599, 0), Words: r.text(a["words"], "")}
	if given := a["malformed"]; given != nil {
		d.Wrong, d.Refused = trial.WrongKnocks[r.oneOf(given, trial.WrongKnocks...)], true
	}
	for _, known := range [][2]string{{"origin", "Origin"}, {"subprotocol", "Sec-WebSocket-Protocol"}} {
		if t := r.textTemplate(a[known[0]]); t != nil {
			d.Fields = append(d.Fields, trial.Field{Name: known[1], Value: t})
		}
	}
	d.Fields = append(d.Fields, r.bearer(a["bearer"])...)
	if a["early"] != nil {
		body, marks := r.bodyTemplate(a["early"])
		if d.Early = body; marks == 0 {
			r.fail(a["early"].Expr.Range(), "the message holds no ${mark}, so that nobody could tell whom it reaches")
		}
	}
	if d.Path == nil && len(d.Fields) == 0 && d.Early == nil && !d.Nameless && !d.Refused {
		return nil
	}
	return d
}

func (r *reader) bearer(a *hcl.Attribute) []trial.Field {
	if a == nil {
		return nil
	}
	t := &expr.Template{}
	t.Text("Bearer ")
	r.textParts(t, a.Expr, (*expr.Template).Value)
	return []trial.Field{{Name: "Authorization", Value: t}}
}

// fields reads an object of names and texts.
func (r *reader) fields(a *hcl.Attribute) []trial.Field {
	var all []trial.Field
	r.eachField(a, func(name string, value hclsyntax.Expression) {
		t := &expr.Template{}
		r.textParts(t, value, (*expr.Template).Value)
		all = append(all, trial.Field{Name: name, Value: t})
	})
	return all
}

// eachField calls f with each entry of an object of header fields or the like.
func (r *reader) eachField(a *hcl.Attribute, f func(name string, value hclsyntax.Expression)) {
	if a == nil {
		return
	}
	o, ok := a.Expr.(*hclsyntax.ObjectConsExpr)
	if !ok {
		r.fail(a.Expr.Range(), `write { "NAME" = "text" }`)
		return
	}
	for _, item := range o.Items {
		key, diags := item.KeyExpr.Value(nil)
		if diags.HasErrors() || key.Type() != cty.String || !key.IsKnown() || key.IsNull() ||
			strings.ContainsAny(key.AsString(), "\r\n:") && a.Name == "headers" {
			r.fail(item.KeyExpr.Range(), "a name must be a fixed text")
			continue
		}
		f(key.AsString(), item.ValueExpr)
	}
}

// query appends an object as it stands in an address or a form.
func (r *reader) query(t *expr.Template, a *hcl.Attribute) (marks int) {
	n := 0
	r.eachField(a, func(name string, value hclsyntax.Expression) {
		if n++; n > 1 {
			t.Text("&")
		}
		t.Text(escaped(name) + "=")
		marks += r.textParts(t, value, (*expr.Template).Escaped)
	})
	return marks
}

// readRequest reads an HTTP request. One that reaches somebody publishes a
// message, and is accounted for like a say.
func (r *reader) readRequest(st *trial.Step, b *hcl.Block, a hcl.Attributes) {
	st.Do, st.Label, st.Within, st.Check = trial.Ask, b.Labels[0], r.duration(a["within"], 10*time.Second),
		r.check(b.Labels[0], "request")
	q := &trial.Request{Status: r.whole(a["status"], 100, 599, 0),
		When: r.condition(a["when"]), Redirects: r.whole(a["redirects"], 0, 20, 5)}
	q.Path = &expr.Template{}
	marks, given := 0, 0
	if path := a["path"]; path != nil {
		marks = r.textParts(q.Path, path.Expr, (*expr.Template).Value)
	}
	if a["query"] != nil {
		q.Path.Text("?")
		marks += r.query(q.Path, a["query"])
	}
	q.Fields = append(r.fields(a["headers"]), r.bearer(a["bearer"])...)
	content := func(t *expr.Template, n int, kind string) {
		q.Content, q.Type, marks, given = t, kind, marks+n, given+1
	}
	if a["form"] != nil {
		t := &expr.Template{}
		content(t, r.query(t, a["form"]), "application/x-www-form-urlencoded")
	}
	if a["json"] != nil {
		t, n := r.bodyTemplate(a["json"])
		content(t, n, "application/json")
	}
	if a["body"] != nil {
		t, n := r.bodyTemplate(a["body"])
		content(t, n, "text/plain; charset=utf-8")
	}
	if given > 1 {
		r.fail(b.DefRange, "give one of form, json and body")
	}
	q.Type = r.text(a["type"], q.Type)
	method := "GET"
	if q.Content != nil {
		method = "POST"
	}
	if q.Method = r.text(a["method"], method); strings.Trim(q.Method, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") != "" ||
		q.Method == "" {
		r.fail(a["method"].Expr.Range(), "a method is a word in capitals, such as PUT")
	}
	if a["reaches"] != nil {
		q.Publishes, st.Room = true, r.textTemplate(a["room"])
		switch r.oneOf(a["reaches"], "room", "others", "everyone") {
		case 1:
			st.Reaches = ledger.ToOthers
		case 2:
			st.All = true
		}
		switch st.Known = r.knownBy(a); {
		case marks == 0 && st.Known == 0:
			r.fail(b.DefRange, "neither its address nor its content holds ${mark}, so its deliveries could not be "+
				"recognised; if the server says something of its own, say by what it is known (known_by)")
		case marks > 0 && st.Known > 0:
			r.fail(a["known_by"].Range, "the request holds ${mark}, by which its deliveries are recognised; leave out "+
				"one of the two")
		}
	}
	st.Request = q
}
