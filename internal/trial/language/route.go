package language

import (
	"cmp"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
	"github.com/zclconf/go-cty/cty/convert"

	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// routeKinds are the attributes that give a route its address, and the schemes that they
// take.
var routeKinds = []routeKind{
	{"websocket", "ws"}, {"events", "http"}, {"stream", "http"}, {"polling", "http"}, {"lines", "tcp"}, {"tcp", "tcp"},
	{"udp", "udp"},
}

type routeKind struct{ attribute, scheme string }

// kindOf is the attribute that gives a route its address, and its place in routeKinds;
// nil if there is none. More than one is a mistake.
func (r *reader) kindOf(a hcl.Attributes) (given *hcl.Attribute, kind int) {
	for i, k := range routeKinds {
		switch {
		case a[k.attribute] == nil:
		case given != nil:
			r.fail(a[k.attribute].NameRange, "there are several addresses; a further route has a block of its own: "+
				"route \"%s\" { %s = ... }", k.attribute, k.attribute)
		default:
			given, kind = a[k.attribute], i
		}
	}
	return given, kind
}

// readRoute reads what a target says of its first route. With nodes it has its address
// from them, and from the command line if one stands there.
func (r *reader) readRoute(at hcl.Range, a hcl.Attributes, nodes bool) trial.Route {
	given, kind := r.kindOf(a)
	address := ""
	if given != nil {
		at = given.Expr.Range()
		address = r.address(given)
	}
	if r.options.Target != "" {
		if written := address; pathIn(r.options.Target) == "" && written != "" {
			address = strings.TrimSuffix(r.options.Target, "/") + pathAndQuery(written)
		} else if address = r.options.Target; strings.Contains(address, "${") {
			if r.told = r.toldTarget(); r.told == nil {
				return trial.Route{}
			}
			address = r.address(r.told)
		}
		switch scheme := plainScheme(schemeOf(address)); { // how a server speaks over HTTP only the file can say
		case scheme == "ws" && routeKinds[kind].scheme != "ws":
			kind = 0
		case scheme == "udp":
			kind = len(routeKinds) - 1
		case scheme == "tcp" && routeKinds[kind].scheme != "tcp":
			kind = slices.IndexFunc(routeKinds, func(k routeKind) bool { return k.attribute == "lines" })
		}
	} else if nodes {
		if given != nil {
			r.fail(at, "the target has an address besides its nodes; give one or the other")
		}
		if all := r.texts(a["nodes"]); len(all) > 0 {
			address, at = all[0], a["nodes"].Expr.Range()
		}
		switch plainScheme(schemeOf(address)) {
		case "tcp":
			kind = len(routeKinds) - 2
		case "udp":
			kind = len(routeKinds) - 1
		}
	}
	if address == "" {
		r.fail(at, "the target has no address: give websocket, events, stream, polling, lines, tcp or udp here, or "+
			"--target on the command line")
	} else if wrong := checkAddress(address, routeKinds[kind].scheme); wrong != "" {
		r.fail(at, "the target's address %q %s", address, wrong)
	}
	return r.route(routeKinds[kind].attribute, address, routeKinds[kind].attribute, a)
}

// toldTarget is the address of the command line, in which something is a client's own, as if it stood in the file.
func (r *reader) toldTarget() *hcl.Attribute {
	text := []byte(r.options.Target)
	template, diags := hclsyntax.ParseTemplate(text, "--target", hcl.InitialPos)
	if diags.HasErrors() {
		r.diags = append(r.diags, diags...)
		return nil
	}
	return &hcl.Attribute{Name: "target", Expr: template, Range: template.Range(), NameRange: template.Range()}
}

// readFurtherRoute reads a route's own block.
func (r *reader) readFurtherRoute(b *hcl.Block) {
	a := r.open(b.Body, "target.route").Attributes
	given, kind := r.kindOf(a)
	if given == nil {
		r.fail(b.DefRange, "the route has no address: give websocket, events, stream, polling, lines, tcp or udp")
		return
	}
	address := r.address(given)
	if wrong := checkAddress(address, routeKinds[kind].scheme); wrong != "" && address != "" {
		r.fail(given.Expr.Range(), "the route's address %q %s", address, wrong)
	}
	t := &r.trial.Target
	if slices.ContainsFunc(t.Routes, func(other trial.Route) bool { return other.Name == b.Labels[0] }) {
		r.fail(b.LabelRanges[0], "there is a route %q already", b.Labels[0])
	}
	if len(t.Routes) == trial.MaxRoutes {
		r.fail(b.DefRange, "a target has at most %d routes", trial.MaxRoutes)
		return
	}
	route := r.route(b.Labels[0], r.moved(address), routeKinds[kind].attribute, a)
	t.Routes = append(t.Routes, route)
}

// route makes a route of a kind out of the attributes that stand beside its address.
func (r *reader) route(name, address, kind string, a hcl.Attributes) trial.Route {
	w := trial.Route{Name: name, Address: address, Written: address}
	for _, k := range routeKinds { // --target may have made it one of another kind
		if given := a[k.attribute]; given != nil && r.options.Target != "" {
			w.Written = r.address(given)
		}
	}
	r.readFraming(&w, kind, a)
	switch kind {
	case "websocket":
		if r.yes(a["deflate"]) {
			fresh, bits := r.yes(a["deflate_fresh"]), r.whole(a["deflate_window"], 8, 15, 0)
			w.Deflate = &ws.Deflate{ServerFresh: fresh, ClientFresh: fresh, ServerBits: bits, ClientBits: bits}
		} else {
			for _, name := range []string{"deflate_fresh", "deflate_window"} {
				if given := a[name]; given != nil {
					r.fail(given.NameRange, "%s goes with deflate = true", name)
				}
			}
		}
	case "lines", "tcp":
		w.Kind = trial.OverTCP
	case "udp":
		w.Kind = trial.OverUDP
		w.Framing.Whole = a["ended_by"] == nil && a["prefix"] == nil
		w.First = r.duration(a["first_within"], 0)
	default:
		w.Kind = trial.OverHTTP
		w.Habits = &transport.Habits{Framing: w.Framing, Framed: a["ended_by"] != nil || a["prefix"] != nil,
			Method: []string{"GET", "POST"}[r.oneOf(a["method"], "GET", "POST")], Type: r.text(a["post_type"],
				"application/json"), Ends: r.yes(a["post_end"]),
			First: r.duration(a["first_within"], 0)}
		w.Framing = wire.Framing{}
		w.Habits.Mode = map[string]transport.Mode{"events": transport.EventStream, "stream": transport.LongAnswer,
			"polling": transport.LongPolling}[kind]
		if every := a["every"]; every != nil && kind == "polling" {
			w.Habits.Mode, w.Habits.Every = transport.Polling, r.duration(every, time.Second)
			if w.Habits.Every < time.Millisecond {
				r.fail(every.Expr.Range(), "a server is asked at most each millisecond")
			} else if w.Habits.Every >= r.trial.Grace {
				r.fail(every.Expr.Range(), "asked every %v, messages would be lost: the grace time of the trial is %v",
					w.Habits.Every, r.trial.Grace)
			}
		}
	}
	w.Urgent = r.readUrgent(&w, a)
	r.checkBeside(kind, a)
	route := len(r.trial.Target.Routes)
	given := a[kind]
	if pathIn(r.options.Target) != "" && route == 0 {
		given = r.told
	}
	if given != nil && r.isDynamic(given) {
		r.later = append(r.later, func() {
			if t := &r.trial.Target; route < len(t.Routes) {
				t.Routes[route].Whole = r.addressTemplate(given)
			}
		})
	}
	if post := a["post"]; post != nil && w.Kind == trial.OverHTTP {
		r.later = append(r.later, func() { // when the names that sessions set are known
			if t := &r.trial.Target; route < len(t.Routes) {
				t.Routes[route].Post = r.addressTemplate(post)
			}
		})
	}
	return w
}

// readUrgent reads the way for datagrams beside a route; nil if there is none.
func (r *reader) readUrgent(w *trial.Route, a hcl.Attributes) *trial.Urgent {
	given := a["urgent"]
	if given == nil {
		if framed := a["urgent_framed"]; framed != nil {
			r.fail(framed.NameRange, "urgent_framed goes with urgent")
		}
		return nil
	}
	u := &trial.Urgent{Address: r.text(given, ""), Framing: w.Framing}
	if wrong := checkAddress(u.Address, "udp"); wrong != "" && u.Address != "" {
		r.fail(given.Expr.Range(), "the urgent address %q %s", u.Address, wrong)
	}
	u.Address = r.movedWith(w.Written, u.Address)
	if !r.yes(a["urgent_framed"]) {
		u.Framing = wire.Framing{Whole: true}
	}
	return u
}

// pathAndQuery is what stands behind the host in an address.
func pathAndQuery(address string) string {
	_, rest, _ := strings.Cut(address, "://")
	if i := strings.IndexByte(rest, '/'); i >= 0 {
		return rest[i:]
	}
	return ""
}

// pathIn is the path of an address, without the host; "" if it has none.
func pathIn(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Path == "/" {
		return ""
	}
	return u.Path
}

// moved is a further route's address if the target is elsewhere than its file says: it
// goes along if it was on the same host.
func (r *reader) moved(address string) string {
	return r.movedWith(r.trial.Target.Routes[0].Written, address)
}

// movedWith is moved for a first route that is being read.
func (r *reader) movedWith(written, address string) string {
	first, err := url.Parse(written)
	to, wrong := url.Parse(r.options.Target)
	u, bad := url.Parse(address)
	if err != nil || wrong != nil || bad != nil || r.options.Target == "" || u.Host != first.Host {
		return address
	}
	u.Host = to.Host
	if u.Scheme == "udp" {
		return u.String()
	}
	if secure := secured[plainScheme(u.Scheme)]; to.Scheme == secured[plainScheme(to.Scheme)] {
		u.Scheme = secure
	} else {
		u.Scheme = plainScheme(u.Scheme)
	}
	return u.String()
}

// isDynamic reports whether an attribute has a value of its own for each client.
func (r *reader) isDynamic(a *hcl.Attribute) bool {
	return slices.ContainsFunc(a.Expr.Variables(), func(v hcl.Traversal) bool {
		_, fixed := r.vars.Variables[v.RootName()]
		return !fixed
	})
}

// address reads a route's address. What is the client's own in it stands behind the
// host, and is left out.
func (r *reader) address(a *hcl.Attribute) string {
	if !r.isDynamic(a) {
		return r.text(a, "")
	}
	address := ""
	if t, ok := a.Expr.(*hclsyntax.TemplateExpr); ok && len(t.Parts) > 0 {
		for _, part := range t.Parts {
			v, diags := part.Value(&r.vars)
			if text, err := convert.Convert(v, cty.String); err == nil {
				v = text // of a number
			}
			if diags.HasErrors() || !v.IsKnown() || v.IsNull() || v.Type() != cty.String {
				break
			}
			address += v.AsString()
		}
	}
	if _, rest, ok := strings.Cut(address, "://"); !ok || !strings.Contains(rest, "/") {
		r.fail(a.Expr.Range(), "what is a client's own in an address stands behind the host, such as "+
			"\"http://127.0.0.1:7411/events?client=${name}\"")
		return ""
	}
	return address
}

// addressTemplate compiles an address, or a path. What is a client's own in it is put in
// as it must stand in one (RFC 3986 2.1): a name may hold anything.
func (r *reader) addressTemplate(a *hcl.Attribute) *expr.Template {
	tmpl, ok := a.Expr.(*hclsyntax.TemplateExpr)
	if !ok {
		return r.textTemplate(a)
	}
	t := &expr.Template{}
	for _, part := range tmpl.Parts {
		if v, diags := part.Value(&r.vars); !diags.HasErrors() && v.IsKnown() && !v.IsNull() {
			if text, err := convert.Convert(v, cty.String); err == nil {
				t.Text(text.AsString())
				continue
			}
		}
		p, _ := r.compile(part, false)
		t.Escaped(p)
	}
	return t
}

// besideAddress is what stands beside an address, and with which kinds it may.
var besideAddress = map[string][]string{
	"deflate": {"websocket"}, "deflate_fresh": {"websocket"}, "deflate_window": {"websocket"},
	"ended_by": {"tcp", "udp", "stream", "polling"}, "prefix": {"tcp", "udp", "stream", "polling"},
	"every": {"polling"}, "urgent": {"websocket", "lines", "tcp"}, "urgent_framed": {"websocket", "lines", "tcp"},
	"post": {"events", "stream", "polling"}, "post_type": {"events", "stream", "polling"},
	"method":   {"events", "stream", "polling"},
	"post_end": {"events", "stream", "polling"}, "first_within": {"events", "stream", "udp"},
}

// checkBeside reports what stands beside an address that it has nothing to do with.
func (r *reader) checkBeside(kind string, a hcl.Attributes) {
	for _, name := range slices.Sorted(maps.Keys(besideAddress)) {
		kinds := besideAddress[name]
		if given := a[name]; given != nil && !slices.Contains(kinds, kind) {
			r.fail(given.NameRange, "%s goes with %s, and not with %s", name, strings.Join(kinds, " or "), kind)
		}
	}
}

// readNodes checks the addresses of several servers.
func (r *reader) readNodes(nodes *hcl.Attribute) {
	t := &r.trial.Target
	if r.options.Target != "" {
		return
	}
	t.Nodes = r.texts(nodes)
	for i, address := range t.Nodes {
		// The first is checked as the target's.
		if wrong := checkAddress(address, plainScheme(schemeOf(t.Address))); wrong != "" && i > 0 {
			r.fail(nodes.Expr.Range(), "the target's address %q %s", address, wrong)
		}
	}
}

// readFraming reads where messages end that come as bytes.
func (r *reader) readFraming(w *trial.Route, kind string, a hcl.Attributes) {
	f, ends, prefix := &w.Framing, a["ended_by"], a["prefix"]
	if ends != nil && prefix != nil {
		r.fail(prefix.NameRange, "messages end by ended_by or by prefix; give one of them")
	}
	if ends != nil {
		if f.Ends = r.text(ends, ""); f.Ends == "" || len(f.Ends) > 8 {
			r.fail(ends.Expr.Range(), "a message is ended by 1 to 8 bytes")
		}
	}
	if prefix != nil {
		f.Prefix = wire.Prefix(1 + r.oneOf(prefix, wire.Prefixes...))
	}
}

func schemeOf(address string) string {
	scheme, _, _ := strings.Cut(address, ":")
	return scheme
}

// schemes is how an address begins, for each scheme, in words.
var schemes = map[string]string{"ws": "ws://", "http": "http://", "tcp": "tcp://", "udp": "udp://"}

// secured is the scheme that stands for the same with TLS.
var secured = map[string]string{"ws": "wss", "http": "https", "tcp": "tls"}

// plainScheme is the opposite of secured.
func plainScheme(scheme string) string {
	for plain, s := range secured {
		if s == scheme {
			return plain
		}
	}
	return scheme
}

// checkAddress says what is wrong with an address that must have a scheme, or "".
func checkAddress(s, scheme string) string {
	a, err := wire.ParseAddress(s)
	var wrong *wire.AddressError
	errors.As(err, &wrong)
	switch {
	case wrong != nil && a == (wire.Address{}): // it is no URL at all
		return wrong.Wrong
	case a.Scheme == secured[scheme] && a.Scheme != "":
	case a.Scheme != scheme && schemes[a.Scheme] != "":
		return "is of another kind: it must start with " + schemes[scheme]
	case a.Scheme != scheme:
		return "must start with " + schemes[scheme]
	}
	if wrong != nil {
		return wrong.Wrong
	}
	return ""
}

// readRoutes reads which routes a crew takes, and how it changes them.
func (r *reader) readRoutes(c *trial.Crew, content *hcl.BodyContent) {
	a := content.Attributes
	t := &r.trial.Target
	var names []string
	for _, route := range t.Routes {
		names = append(names, route.Name)
	}
	numberOf := func(name string, at hcl.Range) (uint8, bool) {
		i := slices.Index(names, name)
		if i < 0 {
			r.fail(at, "the target has no route %q%s", name, nearest(name, names))
		}
		return uint8(max(0, i)), i >= 0
	}
	if routes := a["routes"]; routes != nil {
		for _, name := range r.texts(routes) {
			if i, known := numberOf(name, routes.Expr.Range()); known {
				c.Routes = append(c.Routes, i)
			}
		}
	} else {
		for i := range t.Routes {
			c.Routes = append(c.Routes, uint8(i))
		}
	}
	c.Promote, c.Settle = r.yes(a["promote"]), r.duration(a["settle"], 5*time.Second)
	c.Retry = r.duration(a["retry"], 0)
	for _, b := range content.Blocks {
		if b.Type != "without" {
			continue
		}
		w := trial.Without{Share: 1}
		if share := r.open(b.Body, "without").Attributes["share"]; share != nil {
			w.Share = r.share(r.text(share, "100%"), share.Expr.Range())
		}
		if i, known := numberOf(b.Labels[0], b.LabelRanges[0]); known {
			w.Route = i
			c.Without = append(c.Without, w)
		}
	}
	// Shares of several withouts may fall on the same client: each is looked at.
	for n := range c.Clients {
		allows := func(route uint8) bool { return !c.Forbids(route, n) }
		if len(c.Without) > 0 && !slices.ContainsFunc(c.Routes, allows) {
			r.fail(content.MissingItemRange, "client %d of the crew has no route left", n)
			break
		}
	}
}

// readTLS reads whom clients trust, and what they show of themselves.
func (r *reader) readTLS(b *hcl.Block) {
	a := r.open(b.Body, "target.tls").Attributes
	o := &r.trial.Target.TLS
	file := func(name string) (content []byte) {
		if given := a[name]; given != nil {
			content, _ = r.readBeside(given)
		}
		return content
	}
	o.CA, o.Cert, o.Key = file("ca"), file("cert"), file("key")
	if len(o.CA) > 0 && !x509.NewCertPool().AppendCertsFromPEM(o.CA) {
		r.fail(a["ca"].Expr.Range(), "there is no certificate in PEM in the file")
	}
	if given := cmp.Or(a["cert"], a["key"]); given != nil {
		if _, err := tls.X509KeyPair(o.Cert, o.Key); err != nil && (a["cert"] == nil || a["key"] == nil) {
			r.fail(given.NameRange, "a client's certificate is cert and key together")
		} else if err != nil && len(o.Cert) > 0 && len(o.Key) > 0 {
			r.fail(given.Expr.Range(), "certificate and key do not go together: %v", err)
		}
	}
	versions := []string{"1.2", "1.3"}
	for name, into := range map[string]*string{"least": &o.Min, "most": &o.Max} {
		if a[name] != nil {
			*into = versions[r.oneOf(a[name], versions...)]
		}
	}
	if o.Min == "1.3" && o.Max == "1.2" {
		r.fail(a["most"].NameRange, "no version is at least 1.3 and at most 1.2")
	}
	o.ServerName = r.text(a["server_name"], "")
	if a["protocols"] != nil {
		o.Protocols = r.texts(a["protocols"])
	}
	o.Resume, o.Insecure = r.yes(a["resume"]), r.yes(a["insecure"])
	if !r.trial.Target.Secure() {
		r.fail(b.DefRange, "no address of the target asks for TLS; one does that begins with wss://, https:// or "+
			"tls://")
	}
}
