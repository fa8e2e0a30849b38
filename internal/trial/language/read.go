package language

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
)

// readTrial reads the trial block. Its defaults are those of docs/language.md, which
// is made from words.go.
func (r *reader) readTrial(b *hcl.Block) {
	if b == nil {
		return
	}
	a := r.open(b.Body, "trial").Attributes
	r.trial.Name = b.Labels[0]
	r.trial.Seed = uint64(r.whole(a["seed"], 0, 1<<53, 1))
	r.trial.Prompt = r.duration(a["prompt"], time.Second)
	r.trial.Grace = r.duration(a["grace"], 5*time.Second)
	r.trial.Kernel = r.oneOf(a["path"], "own", "kernel") == 1 || r.options.Kernel
	r.trial.Loops = int(r.whole(a["loops"], 1, trial.MaxLoops, 0))
}

// readTarget reads where the server is and what it speaks. Requests go to the same
// host and port, unless http says otherwise.
func (r *reader) readTarget(b *hcl.Block) {
	if b == nil {
		return
	}
	content := r.open(b.Body, "target")
	a := content.Attributes
	t := &r.trial.Target
	t.Name = b.Labels[0]
	t.KeepAlive = r.duration(a["keepalive"], 0)
	t.Remote, t.At = r.text(a["remote"], ""), r.text(a["connect_to"], "")
	if from := a["from"]; from != nil {
		for _, text := range r.texts(from) {
			ip, err := netip.ParseAddr(text)
			if err != nil {
				r.fail(from.Expr.Range(), "%q is no address by number, such as 127.0.0.2", text)
			}
			t.From = append(t.From, ip)
		}
	}
	if t.Proxy = r.text(a["proxy"], ""); t.Proxy != "" {
		if wrong := checkAddress(t.Proxy, "http"); wrong != "" || schemeOf(t.Proxy) != "http" {
			r.fail(a["proxy"].Expr.Range(), "the proxy's address must be one with http://")
		}
		if t.At != "" {
			r.fail(a["connect_to"].NameRange, "everything goes through the proxy; give proxy or connect_to")
		}
	}
	if _, err := wire.ParseEndpoint(t.At); t.At != "" && err != nil {
		r.fail(a["connect_to"].Expr.Range(), "%v", err)
	}
	t.Routes = []trial.Route{r.readRoute(b.DefRange, a, a["nodes"] != nil)}
	t.Address = t.Routes[0].Address
	if nodes := a["nodes"]; nodes != nil {
		r.readNodes(nodes)
	}
	for _, block := range content.Blocks {
		switch block.Type {
		case "tls":
			r.readTLS(block)
		case "promise":
			r.readPromise(block)
		default:
			r.readFurtherRoute(block)
		}
	}
	r.checkDatagrams(a)
	if u, err := url.Parse(t.Address); err == nil && t.Routes[0].Kind != trial.OverTCP &&
		t.Routes[0].Kind != trial.OverUDP {
		t.HTTP = "http://" + u.Host
		if u.Scheme == "wss" || u.Scheme == "https" {
			t.HTTP = "https://" + u.Host
		}
	}
	t.HTTP = strings.TrimSuffix(r.text(a["http"], t.HTTP), "/")
	if u, err := url.Parse(t.HTTP); a["http"] != nil && (err != nil || u.Scheme != "http" && u.Scheme != "https" ||
		u.Host == "") {
		r.fail(a["http"].Expr.Range(), "%q is no http:// or https:// address", t.HTTP)
	}
	t.Order = [...]ledger.Order{ledger.BySender, ledger.SameOrder,
		ledger.AnyOrder}[r.oneOf(a["order"], "sender", "same", "any")]
	if a["order"] == nil && t.Has(trial.OverUDP) {
		t.Order = ledger.AnyOrder // datagrams promise none
	}
	r.readDialect(r.text(a["dialect"], "plain-json"), a["dialect"], b)
	r.checkPromise(b)
}

// checkDatagrams reports what a target says beside addresses for datagrams that leads them
// nowhere.
func (r *reader) checkDatagrams(a hcl.Attributes) {
	t := &r.trial.Target
	if !slices.ContainsFunc(t.Routes, func(w trial.Route) bool { return w.Kind == trial.OverUDP || w.Urgent != nil }) {
		return
	}
	if given := a["proxy"]; given != nil {
		r.fail(given.NameRange, "a proxy connects no datagrams; leave out the proxy, or udp and urgent")
	}
	if given := a["connect_to"]; given != nil && strings.HasPrefix(t.At, "unix:") {
		r.fail(given.NameRange, "datagrams go to an ADDRESS:PORT, not to a socket of the file system")
	}
}

// readDialect reads the dialect of a name: the file's own, or a built-in one.
func (r *reader) readDialect(name string, a *hcl.Attribute, target *hcl.Block) {
	b := r.dialects[name] // the trial's own first: it may stand in for a shipped one
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
	content := r.open(b.Body, "dialect")
	if split := content.Attributes["split"]; split != nil {
		d.Split = []byte(r.text(split, ""))
		if len(d.Split) == 0 {
			r.fail(split.Expr.Range(), "nothing cannot stand between messages")
		}
	}
	d.Across, d.Binary = r.yes(content.Attributes["across"]), r.yes(content.Attributes["binary"])
	if across := content.Attributes["across"]; across != nil && d.Split == nil {
		r.fail(across.NameRange, "across is about split; there is no split")
	}
	if json := content.Attributes["json"]; json != nil {
		d.JSON, _ = r.compile(json.Expr, false)
	}
	if length := content.Attributes["length"]; length != nil {
		if d.Length, _ = r.compile(length.Expr, false); d.Split != nil {
			r.fail(length.NameRange, "messages end by split or by length; give one of them")
		}
	}
	// condition is for anything that may be left out, not only for what is true or false.
	d.Each = r.condition(content.Attributes["each"])
	for _, part := range content.Blocks {
		attrs := r.open(part.Body, "dialect."+part.Type).Attributes
		switch part.Type {
		case "name":
			d.Naming = r.exchange(attrs)
			d.Naming.After = r.condition(attrs["after"])
			d.Naming.First, _ = r.bodyTemplate(attrs["first"])
			d.Naming.Then = r.condition(attrs["then"])
			if d.Naming.Then != nil && d.Naming.First == nil {
				r.fail(attrs["then"].NameRange, "then is the answer to first; there is no first")
			}
		case "beat":
			d.Beat = trial.Beat{When: r.condition(attrs["when"]), Every: r.duration(attrs["every"], 0)}
			d.Beat.Answer, _ = r.bodyTemplate(attrs["answer"])
			d.Beat.Send, _ = r.bodyTemplate(attrs["send"])
			if d.Beat.When == nil && d.Beat.Answer != nil || (d.Beat.Every == 0) != (d.Beat.Send == nil) ||
				d.Beat.When == nil && d.Beat.Every == 0 {
				r.fail(part.DefRange, "a beat is when, with or without answer, or every with send, or both")
			}
		case "goodbye":
			d.Goodbye, _ = r.bodyTemplate(attrs["send"])
		case "switch":
			d.Switch.Send, _ = r.bodyTemplate(attrs["send"])
			d.Switch.Confirmed = r.condition(attrs["confirmed"])
			d.Switch.Then, _ = r.bodyTemplate(attrs["then"])
		case "enter":
			d.Enter = r.exchange(attrs)
		case "leave":
			d.Leave = r.exchange(attrs)
		case "past":
			d.Past, d.PastSeq = r.condition(attrs["when"]), r.condition(attrs["seq"])
			d.PastEach, d.PastIsLive = r.condition(attrs["each"]), r.yes(attrs["live"])
			if d.PastIsLive == (d.Past != nil) {
				r.fail(part.DefRange, "history is recognised by a condition (when), or comes as live messages do "+
					"(live = true)")
			}
		case "other":
			d.Other = r.condition(attrs["when"])
		case "echo":
			d.Echo = r.condition(attrs["when"])
		case "heard":
			d.Heard = trial.Heard{When: r.condition(attrs["when"]), Room: r.condition(attrs["room"]),
				Seq: r.condition(attrs["seq"]), Payload: r.condition(attrs["payload"]),
				Decoded: r.condition(attrs["decoded"]), Binary: r.yes(attrs["binary"])}
		case "presence":
			d.Presence = trial.Presence{When: r.condition(attrs["when"]), Room: r.condition(attrs["room"]),
				Members: r.condition(attrs["members"]), Names: r.condition(attrs["names"]),
				Updates: r.yes(attrs["updates"]),
				Within:  r.duration(attrs["within"], 2*time.Second), // servers gather changes before they tell
				Check:   r.check("the number of members", "presence")}
			if d.Presence.Names != nil {
				d.Presence.NamesCheck = r.check("the names of members", "presence")
			} else if d.Presence.Members == nil {
				r.fail(part.DefRange, "give members, the number of them, or names, the list, or both")
			}
		case "joined":
			d.Joined = r.notice(attrs)
		case "gone":
			d.Gone = r.notice(attrs)
		}
	}
}

// dialectNames lists the dialects of the trial and the shipped ones, for what to say
// if a name is wrong.
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

func (r *reader) notice(a hcl.Attributes) trial.Notice {
	return trial.Notice{When: r.condition(a["when"]), Room: r.condition(a["room"]), Who: r.condition(a["name"]),
		NotItself: r.yes(a["not_itself"])}
}

func (r *reader) exchange(a hcl.Attributes) trial.Exchange {
	send, _ := r.bodyTemplate(a["send"])
	return trial.Exchange{Given: true, Send: send, Confirmed: r.condition(a["confirmed"]),
		Refused: r.condition(a["refused"]), Why: r.condition(a["why"])}
}

// readCrew reads a crew: its session must have been read. A barrier is waited at by
// the crews that have it in their sessions.
func (r *reader) readCrew(b *hcl.Block) {
	content := r.open(b.Body, "crew")
	a := content.Attributes
	c := trial.Crew{Name: b.Labels[0], Clients: r.whole(a["clients"], 1, 1<<24, 1),
		ClientName: r.textTemplate(a["name"]), Groups: r.whole(a["groups_of"], 1, 1<<20, 1)}
	for _, t := range content.Blocks {
		switch {
		case t.Type == "without": // once its routes are known
		case t.Type == "misbehave":
			r.readMisbehave(&c, t)
		case t.Type == "reconnect" && c.Return != nil:
			r.fail(t.DefRange, "there is a second reconnect; a crew has one")
		case t.Type == "reconnect":
			c.Return = r.readReturn(t)
		case len(c.Tide.Legs) > 0:
			r.fail(t.DefRange, "there is a second tide; a crew has one")
		default:
			c.Tide = r.readTide(t, c.Clients)
		}
	}
	r.readRoutes(&c, content)
	for _, other := range r.trial.Crews {
		if other.Name == c.Name {
			r.fail(b.LabelRanges[0], "there is a crew %q already", c.Name)
		}
	}
	if c.ClientName == nil {
		c.ClientName = &expr.Template{}
		c.ClientName.Text(c.Name + "-")
		var n expr.Builder
		n.Var(expr.VarN)
		p, _ := n.Build()
		c.ClientName.Value(p)
	}
	if s := a["session"]; s != nil {
		c.Session = r.sessionOf(s)
	}
	if c.Session != nil {
		for i := range c.Session.Steps {
			if st := &c.Session.Steps[i]; st.Do == trial.Wait {
				at := &r.trial.Barriers[st.Barrier]
				if crew := len(r.trial.Crews); !slices.Contains(at.Crews, crew) {
					at.Crews = append(at.Crews, crew)
				}
			}
		}
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

// readLimit reads a limit: one rule on one figure. Durations are compared in
// microseconds.
func (r *reader) readLimit(b *hcl.Block) {
	a := r.open(b.Body, "limit").Attributes
	l := trial.Limit{Name: b.Labels[0]}
	if a["of"] == nil {
		return
	}
	l.Figure = figureName(a["of"].Expr)
	f := logbook.FigureNamed(l.Figure)
	if text, is := plainText(a["of"].Expr); is {
		if l.Figure = text; logbook.FigureNamed(text) != nil {
			r.fail(a["of"].Expr.Range(), "a figure is written without quotation marks: of = %s", text)
			return
		}
	}
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
			l.Value = r.number(a[name], 0, 1<<53, 0)
		}
	}
	if given != 1 {
		r.fail(b.DefRange, "a limit has one rule; this one has %d: give one of %s", given,
			quotedList(slices.Clone(trial.RuleNames[:])))
		return
	}
	r.trial.Limits = append(r.trial.Limits, l)
}

// figureName gives the name of a figure that is written with dots; "" if it is
// something else.
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
