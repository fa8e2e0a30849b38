package replay

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"tidepull/internal/base/plain"
	"tidepull/internal/capture/recording"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
)

// SessionOf writes what a recording's clients did as a trial, with secret blocks
// for credentials; if there is nothing, as one that says so.
func SessionOf(rec *recording.Recording) string {
	p, err := Make(rec.Concealed(), Options{})
	if err != nil {
		return fmt.Sprintf("# Nothing to write: %v.\n", err)
	}
	return p.Trial("kept", 1)
}

// leastPause is the shortest pause that is written down.
const leastPause = 300 * time.Millisecond

// Trial writes a plan as a whole trial: a session and a crew for each of its
// clients. speed above 1 makes pauses shorter.
func (p *Plan) Trial(name string, speed float64) string {
	w := &writer{plan: p, speed: speed, meet: meetings(p)}
	w.p("# Made from a recording. It waits for what was answered then.")
	if len(p.Guesses) > 0 {
		w.p("#\n# These values were found to vary, and are replaced. Where that is wrong, change")
		w.p("# it here, or make it again with --keep-value VALUE or --vary VALUE=EXPRESSION.")
		for _, g := range p.Guesses {
			w.p("#   %q becomes %s: %s", plain.Text(g.Value, 60), g.Becomes, plain.Text(g.Why, 0))
			if g.Shared {
				w.p("#     (the clients of a trial do not share what they are given: change it where others say it)")
			}
		}
	}
	w.p("\ntrial %s {\n  seed = 1\n}\n", language.Quote(name))
	w.secrets()
	w.target()
	w.p("# What was recorded is said as it stands, and nothing else.\ndialect \"recorded\" {}\n")
	lasts := time.Duration(0)
	for _, a := range p.Actors {
		w.session(a)
		if n := len(a.Steps); n > 0 {
			lasts = max(lasts, a.Begins+a.Steps[n-1].At-a.Steps[0].At)
		}
	}
	for _, a := range p.Actors {
		w.p("crew \"client %d\" {\n  clients = 1\n  session = session[\"client %d\"]", a.Number, a.Number)
		w.p("  name    = %s\n}\n", w.crewName(a))
	}
	w.p("tide {\n  flood \"100%%\" {\n    over = \"100ms\"\n  }\n  slack {\n    lasts = %q\n  }\n}\n",
		(time.Duration(float64(lasts)/speed) + 5*time.Second).Round(time.Second).String())
	w.p("limit \"all that was answered then is answered now\" {\n  of     = checks.failed\n  equals = 0\n}")
	src := []byte(w.b.String())
	if laidOut, err := language.Format(src, name); err == nil {
		src = laidOut
	}
	return string(src)
}

type writer struct {
	plan  *Plan
	meet  map[*Actor]map[int][]meeting // barriers, by the step that they stand before
	actor *Actor                       // whose session is being written
	made  map[int]string               // guesses that the session at hand has made already, and as what
	b     strings.Builder
	speed float64
}

func (w *writer) p(format string, a ...any) { fmt.Fprintf(&w.b, format+"\n", a...) }

// secrets writes a block for each value that was hidden in the recording.
func (w *writer) secrets() {
	seen := map[string]bool{}
	for _, g := range w.plan.Guesses {
		if g.Kind == "secret" && !seen[g.Value] {
			seen[g.Value] = true
			name, env := recording.SecretOf(g.Value)
			w.p("secret %s {\n env = %q\n}\n", language.Quote(name), env)
		}
	}
}

func (w *writer) target() {
	u, err := url.Parse(w.plan.Target)
	if err != nil {
		u = &url.URL{Scheme: "ws", Host: "127.0.0.1:7411"}
	}
	if attribute, ends := w.overTCP(); attribute != "" {
		w.p("target \"recorded\" {\n  %s = %s\n  http = %s\n  dialect = \"recorded\"\n  order = \"any\"\n%s}\n",
			attribute, language.Quote("tcp://"+u.Host), language.Quote("http://"+u.Host), ends)
		return
	}
	if w.plan.over == "" {
		u.Scheme = "ws"
	}
	path := u.Path
	for _, a := range w.plan.Actors {
		for _, s := range a.Steps {
			if s.Do == Connect && s.Path != "" && path == "" {
				path, _, _ = strings.Cut(s.Path, "?")
			}
		}
	}
	u.Path, u.RawQuery = path, ""
	if u.Path == "" {
		u.Path = "/"
	}
	if w.plan.over == "udp" {
		u.Path = ""
	}
	w.p("target \"recorded\" {\n  %s = %s\n  dialect = \"recorded\"\n  order = \"any\"", cmp.Or(w.plan.over,
		"websocket"),
		language.Quote(u.String()))
	if w.plan.post != "" {
		w.p("  post = %s", language.Quote(w.plan.post))
	}
	if w.plan.every > 0 {
		w.p("  every = %q", w.plan.every.String())
	}
	w.p("}\n")
}

// overTCP is the attribute of a target over TCP, and where messages end, if all actors speak so; else "".
func (w *writer) overTCP() (attribute, ends string) {
	first := w.plan.Actors[0]
	for _, a := range w.plan.Actors {
		if a.Speech != first.Speech || a.Ends != first.Ends {
			return "", ""
		}
	}
	switch f := &first.Ends; {
	case first.Speech == Lines:
		return "lines", ""
	case first.Speech != Messages:
		return "", ""
	case f.Prefix != wire.NoPrefix:
		return "tcp", fmt.Sprintf("  prefix = %q\n", f.Prefix.String())
	default:
		return "tcp", fmt.Sprintf("  ended_by = %s\n", language.Quote(f.Ends))
	}
}

// crewName is the name that an actor had, made different for each copy.
func (w *writer) crewName(a *Actor) string {
	for _, g := range w.plan.Guesses {
		if g.Kind == "name" && g.Actor == a.Number {
			q := language.Quote(g.Value)
			return q[:len(q)-1] + `${n == 0 ? "" : "-${n}"}"`
		}
	}
	return fmt.Sprintf("\"client %d-${n}\"", a.Number)
}

func (w *writer) session(a *Actor) {
	w.actor = a
	w.p("session \"client %d\" {", a.Number)
	asks, streams := 0, false
	var last time.Duration
	if begins := time.Duration(float64(a.Begins) / w.speed); begins >= leastPause {
		w.p("pause {\n lasts = %q\n}", begins.Round(10*time.Millisecond).String())
	}
	w.made = map[int]string{}
	for i := range a.Steps {
		s := &a.Steps[i]
		w.barriers(a, i)
		w.make(a, i)
		if gap := time.Duration(float64(s.At-last) / w.speed); i > 0 && !s.IsHeard() && gap >= leastPause {
			w.p("pause {\n lasts = %q\n}", gap.Round(10*time.Millisecond).String())
		}
		last = s.At
		switch s.Do {
		case Ask:
			asks++
			w.ask(a, s, asks)
		case Follow:
			w.p("# Here the client followed the event stream of %s, which a trial does not yet; tidepull",
				language.Quote(s.Path))
			w.p("# replay does.")
			streams = true
		case Connect:
			w.connect(a, s)
		case Say:
			w.say(a, s)
		case Hear:
			if !streams || a.Speech != Requests {
				w.hear(a, i)
			}
		case Vanish:
			w.p("vanish {}")
		case Closed:
			w.closed(a, i)
		case Close:
			if w.plan.over != "" { // codes are WebSocket's
				w.p("close {}")
				continue
			}
			w.p("close {\n code = %d", closeCode(s))
			if s.Reason != "" {
				w.p("reason = %s", language.Quote(s.Reason))
			}
			w.p("}")
		}
	}
	w.barriers(a, len(a.Steps))
	w.p("}\n")
}

// make makes the values that a step is the first to use and others use after it, so that
// they are the same for all.
func (w *writer) make(a *Actor, at int) {
	for _, g := range a.Steps[at].Uses {
		switch w.plan.Guesses[g].Kind {
		case "name", "given", "secret":
			continue
		}
		again := slices.ContainsFunc(a.Steps[at+1:], func(s Step) bool { return slices.Contains(s.Uses, g) })
		if _, is := w.made[g]; is || !again {
			continue
		}
		name := fmt.Sprintf("made_%d", len(w.made)+1)
		w.p("set {\n %s = %s\n}", name, w.plan.Guesses[g].Becomes)
		w.made[g] = "my." + name
	}
}

// becomes is the expression for a guess.
func (w *writer) becomes(g int) string {
	if made, is := w.made[g]; is {
		return made
	}
	if guess := &w.plan.Guesses[g]; guess.Shared && guess.Actor != w.actor.Number {
		return language.Quote(guess.Value) // a trial's clients do not share what they are given
	}
	return w.plan.Guesses[g].Becomes
}

func (w *writer) ask(a *Actor, s *Step, n int) {
	w.p("request \"request %d\" {\n path = %s\n method = %q", n, w.text(a, s.Path), s.Method)
	if s.Status > 0 {
		w.p("status = %d", s.Status)
	}
	w.fields(a, s, "Content-Type")
	if len(s.Payload) > 0 {
		w.p("body = %s", w.text(a, string(s.Payload)))
		for _, f := range s.Fields {
			if strings.EqualFold(f.Name, "Content-Type") {
				w.p("type = %s", language.Quote(f.Value))
			}
		}
	}
	w.captures(s)
	w.p("redirects = 0\n}")
}

func (w *writer) fields(a *Actor, s *Step, but ...string) {
	var lines []string
	for _, f := range s.Fields {
		skip := false
		for _, name := range but {
			skip = skip || strings.EqualFold(f.Name, name)
		}
		if !skip {
			lines = append(lines, fmt.Sprintf("%s = %s", language.Quote(f.Name), w.text(a, f.Value)))
		}
	}
	if len(lines) > 0 {
		w.p("headers = {\n%s\n}", strings.Join(lines, "\n"))
	}
}

func (w *writer) connect(a *Actor, s *Step) {
	if a.Speech == Bytes {
		w.p("# This client spoke bytes over TCP, which this trial does not; tidepull replay does.")
	}
	w.p("connect {")
	if _, query, ok := strings.Cut(s.Path, "?"); ok && query != "" {
		w.p("path = %s", w.text(a, s.Path))
	}
	w.fields(a, s)
	w.p("}")
}

func (w *writer) say(a *Actor, s *Step) {
	if s.Binary {
		w.p("send {\n hex = %q\n}", hex.EncodeToString(s.Payload))
		return
	}
	w.p("send {\n body = %s\n}", w.body(a, s.Payload))
}

func plainName(s string) bool {
	for _, part := range strings.Split(s, ".") {
		if part == "" || strings.Trim(part, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") != "" {
			return false
		}
	}
	return true
}

// valuesOf lists the values that vary for an actor, and the names of the others.
func (w *writer) valuesOf(a *Actor) (values []string) {
	for _, g := range w.plan.Guesses {
		if g.of(a) || g.Kind == "name" {
			values = append(values, g.Value)
		}
	}
	return values
}

// body writes a message: an object if it is one, else a text.
func (w *writer) body(a *Actor, b []byte) string {
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.UseNumber()
	if t := bytes.TrimSpace(b); len(t) > 0 && t[0] == '{' {
		var out strings.Builder
		if w.object(&out, a, dec) && !dec.More() {
			return out.String()
		}
	}
	return w.text(a, string(b))
}

// object writes one JSON value in HCL, in the order of its members.
func (w *writer) object(out *strings.Builder, a *Actor, dec *json.Decoder) bool {
	t, err := dec.Token()
	if err != nil {
		return false
	}
	switch v := t.(type) {
	case json.Delim:
		end := map[json.Delim]string{'{': "}", '[': "]"}[v]
		out.WriteString(v.String())
		for n := 0; dec.More(); n++ {
			if n > 0 {
				out.WriteString(", ")
			}
			if v == '{' {
				key, err := dec.Token()
				if err != nil {
					return false
				}
				name := key.(string)
				if !plainName(name) || strings.Contains(name, ".") || strings.Trim(name[:1], "0123456789") == "" {
					name = language.Quote(name)
				}
				out.WriteString(" " + name + " = ")
			}
			if !w.object(out, a, dec) {
				return false
			}
		}
		if _, err := dec.Token(); err != nil {
			return false
		}
		out.WriteString(" " + end)
	case string:
		out.WriteString(w.text(a, v))
	case json.Number:
		if f, err := v.Float64(); err != nil || strconv.FormatFloat(f, 'f', -1, 64) != v.String() || f > 1e15 ||
			f < -1e15 {
			return false // it would not be written the same
		}
		if i := w.guessOf(a, v.String()); i >= 0 {
			out.WriteString(w.becomes(i))
		} else {
			out.WriteString(v.String())
		}
	case bool:
		out.WriteString(strconv.FormatBool(v))
	case nil:
		out.WriteString("null")
	}
	return true
}

func (w *writer) guessOf(a *Actor, value string) int {
	for i, g := range w.plan.Guesses {
		if g.Value == value && g.of(a) {
			return i
		}
	}
	return -1
}

// text writes a text as a template in which what varies is replaced.
func (w *writer) text(a *Actor, s string) string {
	if i := w.guessOf(a, s); i >= 0 {
		return w.becomes(i)
	}
	var out strings.Builder
	out.WriteByte('"')
	for _, piece := range w.plan.pieces(a, s) {
		if piece.guess >= 0 {
			out.WriteString("${" + w.becomes(piece.guess) + "}")
			continue
		}
		q := language.Quote(piece.text)
		out.WriteString(q[1 : len(q)-1])
	}
	out.WriteByte('"')
	return out.String()
}

// A piece is a part of a text: fixed, or a value that varies.
type piece struct {
	text  string
	guess int // -1: it is fixed
}

// pieces takes a text apart at the values that vary.
func (p *Plan) pieces(a *Actor, s string) []piece {
	all := []piece{{s, -1}}
	for i, g := range p.Guesses {
		if !g.of(a) {
			continue
		}
		var next []piece
		for _, part := range all {
			if part.guess >= 0 {
				next = append(next, part)
				continue
			}
			for n, text := range splitWords(part.text, g.Value) {
				if n > 0 {
					next = append(next, piece{g.Value, i})
				}
				if text != "" {
					next = append(next, piece{text, -1})
				}
			}
		}
		all = next
	}
	return all
}

// splitWords splits a text where a value stands in it as a word of its own.
func splitWords(text, value string) (parts []string) {
	from := 0
	for at := 0; value != ""; {
		i := strings.Index(text[at:], value)
		if i < 0 {
			break
		}
		i += at
		end := i + len(value)
		if wordEnds(text[:i], false) && wordEnds(text[end:], true) {
			parts = append(parts, text[from:i])
			from, at = end, end
		} else {
			at = i + 1
		}
	}
	return append(parts, text[from:])
}

// wordEnds reports whether no letter or digit stands at the end of a text, or at
// its front.
func wordEnds(s string, front bool) bool {
	r, _ := utf8.DecodeLastRuneInString(s)
	if front {
		r, _ = utf8.DecodeRuneInString(s)
	}
	return s == "" || !unicode.IsLetter(r) && !unicode.IsDigit(r)
}
