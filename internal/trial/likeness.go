package trial

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/transport"
)

// A Likeness is a trial in the words of the shipped stand-in (dialect plain-json) that loads a machine as another trial
// does: as many clients, in as many rooms of the same sizes, who say as much as often, in messages as long.
type Likeness struct {
	Source  Source
	LeftOut []string // what the stand-in has no words for, each once
}

// Like makes the likeness of a trial, against a stand-in at HOST:PORT. It is an error if the rooms of the trial are not
// known before the server names them.
func Like(t *Trial, host string) (*Likeness, error) {
	l := &liken{t: t, out: &Likeness{LeftOut: []string{},
		Source: Source{Name: "likeness.trial.hcl", Files: map[string][]byte{}}}, rooms: map[string]string{}}
	l.scope.Locals, l.scope.Columns = make([]expr.Value, len(t.Locals)), t.Data
	l.line(0, "trial \"likeness\" {\n  seed   = %d\n  grace  = %q\n  prompt = %q\n}", t.Seed, t.Grace, t.Prompt)
	l.line(0, "target \"board\" {\n  %s\n}", l.route(host))
	l.name()
	for i := range t.Crews {
		if t.Crews[i].Clients > 0 {
			l.crew(i)
		}
	}
	l.line(0, "tide {\n  slack { lasts = \"1h\" }\n}")
	l.out.Source.Text = []byte(l.text.String())
	slices.Sort(l.out.LeftOut)
	return l.out, l.err
}

// forEver is a pause that no tide outlasts: a stay.
const forEver = 10000 * time.Hour

// liken is a likeness that is being written.
type liken struct {
	t       *Trial
	out     *Likeness
	text    strings.Builder
	scope   expr.Scope
	err     error
	names   map[string]string // of clients, in the likeness
	rooms   map[string]string // likewise
	crewIs  int
	columns [][]string // of the crew at hand, by column and client
}

func (l *liken) line(depth int, format string, args ...any) {
	indent := strings.Repeat("  ", depth)
	for _, line := range strings.Split(fmt.Sprintf(format, args...), "\n") {
		l.text.WriteString(indent + line + "\n")
	}
}

func (l *liken) leaveOut(what string) {
	if !slices.Contains(l.out.LeftOut, what) {
		l.out.LeftOut = append(l.out.LeftOut, what)
	}
}

// route is the target's first way, to the stand-in.
func (l *liken) route(host string) string {
	r := l.t.Target.Route(0)
	if len(l.t.Target.Routes) > 1 {
		l.leaveOut("all routes but the first")
	}
	if l.t.Target.Secure() {
		l.leaveOut("TLS")
	}
	switch {
	case r.Kind == OverHTTP && r.Habits.Mode == transport.EventStream:
		return fmt.Sprintf("events = \"http://%s/events?client=${name}\"", host)
	case r.Kind == OverHTTP:
		return fmt.Sprintf("polling = \"http://%s/poll?client=${name}\"", host)
	case r.Kind == OverTCP, r.Kind == OverUDP:
		l.leaveOut("the transport: it is a WebSocket")
	case r.Deflate != nil:
		l.leaveOut("compression")
	}
	return fmt.Sprintf("websocket = \"ws://%s/live\"", host)
}

// name gives each client a name in the likeness.
func (l *liken) name() {
	l.names = map[string]string{}
	for i := range l.t.Crews {
		for n := range l.t.Crews[i].Clients {
			if l.at(i, n); l.t.Crews[i].ClientName != nil {
				l.names[l.says(l.t.Crews[i].ClientName)] = fmt.Sprintf("c%d-%d", i, n)
			}
		}
	}
}

// at has expressions see client n of a crew.
func (l *liken) at(crew, n int) {
	c := &l.t.Crews[crew]
	group := max(1, c.Groups)
	v := &l.scope.Vars
	*v = [expr.NumVars]expr.Value{}
	v[expr.VarN], v[expr.VarCrew] = expr.Num(float64(n)), expr.Str(c.Name)
	v[expr.VarGroup], v[expr.VarPlace] = expr.Num(float64(n/group)), expr.Num(float64(n%group))
	v[expr.VarNode], v[expr.VarRound] = expr.Num(float64(n%max(1, len(l.t.Target.Nodes)))), expr.Num(0)
	v[expr.VarMark] = expr.Str("tide0000000000000000") // as long as one is, about
	if c.ClientName != nil {
		v[expr.VarName] = expr.Str(l.says(c.ClientName))
	}
	l.scope.Random = rand.NewPCG(l.t.Seed+uint64(crew), uint64(n))
}

func (l *liken) says(t *expr.Template) string { return string(t.Append(nil, &l.scope)) }

// column adds a column with a value for each client of the crew at hand, and gives the expression that reads it.
func (l *liken) column(value func() string) string {
	all := make([]string, l.t.Crews[l.crewIs].Clients)
	for n := range all {
		l.at(l.crewIs, n)
		all[n] = value()
	}
	l.columns = append(l.columns, all)
	return fmt.Sprintf("data.crew%d.c%d", l.crewIs, len(l.columns)-1)
}

// room gives the expression for a room.
func (l *liken) room(t *expr.Template) string {
	if t == nil {
		return "room"
	}
	if t.UsesLocals() && l.err == nil {
		l.err = fmt.Errorf("its rooms are named by the server (%s): which clients share one is only known once it "+
			"answers",
			t.Shape())
	}
	return l.column(func() string {
		name := l.says(t)
		if l.rooms[name] == "" {
			l.rooms[name] = "room-" + strconv.Itoa(len(l.rooms))
		}
		return l.rooms[name]
	})
}

func (l *liken) crew(i int) {
	c := &l.t.Crews[i]
	l.crewIs, l.columns = i, nil
	l.line(0, "session \"s%d\" {", i)
	l.line(1, "connect {}")
	l.steps(c.Session.Steps, 0, len(c.Session.Steps), 1)
	l.line(1, "stay {}")
	l.line(0, "}\ncrew \"c%d\" {\n  clients = %d\n  session = session.s%d\n  name    = \"c%d-${n}\"\n}", i,
		c.Clients, i, i)
	if len(l.columns) == 0 {
		return
	}
	l.line(0, "data \"crew%d\" { file = \"crew%d.csv\" }", i, i)
	var csv strings.Builder
	for k := range l.columns {
		fmt.Fprintf(&csv, "%sc%d", map[bool]string{true: ","}[k > 0], k)
	}
	for n := range c.Clients {
		csv.WriteByte('\n')
		for k := range l.columns {
			fmt.Fprintf(&csv, "%s%s", map[bool]string{true: ","}[k > 0], l.columns[k][n])
		}
	}
	l.out.Source.Files[fmt.Sprintf("crew%d.csv", i)] = []byte(csv.String() + "\n")
}

// steps writes some of a session's steps.
func (l *liken) steps(all []Step, from, to, depth int) {
	for i := from; i < to; i++ {
		st := &all[i]
		switch st.Do {
		case Enter:
			l.line(depth, "enter { room = %s }", l.room(st.Room))
		case Leave:
			l.line(depth, "leave { room = %s }", l.room(st.Room))
		case Pause:
			if st.For > forEver {
				l.line(depth, "stay {}")
				continue
			}
			l.line(depth, "pause { lasts = %q }", st.For+max(0, st.Most-st.For)/2)
		case Say:
			l.say(st, depth)
		case Tell:
			l.whisper(st, depth)
		case Send:
			l.line(depth, "send { body = { kind = \"notice\", room = \"nobody\", text = %q } }", l.padding(st, 40))
		case Repeat:
			l.repeat(all, i, depth)
			i = st.Goto
		case Branch:
			l.branch(all, i, depth)
			if i = st.Goto - 1; all[i].Do == Jump && i > from { // the otherwise is behind it
				i = all[i].Goto - 1
			}
		case Choose:
			i = l.choose(all, i, depth)
		case Connect, Again, Jump, Back, Set:
		case Expect, Assert:
			l.leaveOut("what the server is expected to say")
		case Ask:
			l.leaveOut("requests over HTTP")
		case Wait:
			l.leaveOut("barriers")
		case Closed, Close, Vanish:
			l.leaveOut("connections that end")
		case Silence, Slow, Malform:
			l.leaveOut("clients that misbehave")
		}
	}
}

// padding fills a message up to the length that it has in the trial, of which the stand-in's words take some.
func (l *liken) padding(st *Step, words int) string {
	l.at(l.crewIs, 0)
	n := 0
	if st.Body != nil {
		n = len(l.says(st.Body))
	}
	return strings.Repeat("~", max(0, min(n, 1<<20)-words))
}

func (l *liken) say(st *Step, depth int) {
	if st.All {
		l.leaveOut("messages to everyone")
		return
	}
	if st.Binary {
		l.leaveOut("binary messages: they are text")
	}
	const words = `{"kind":"notice","room":"room-10","text":"tide0000000000000000"}`
	l.line(depth, "say { body = { kind = \"notice\", room = %s, text = \"${mark}%s\" } }", l.room(st.Room),
		l.padding(st, len(words)))
}

func (l *liken) whisper(st *Step, depth int) {
	if st.To == nil || st.To.UsesLocals() {
		l.leaveOut("private messages to whom the server names")
		return
	}
	to := l.column(func() string { return l.names[l.says(st.To)] })
	if slices.Contains(l.columns[len(l.columns)-1], "") {
		l.columns = l.columns[:len(l.columns)-1]
		l.leaveOut("private messages to clients that are not the trial's")
		return
	}
	const words = `{"kind":"whisper","to":"c0-1000","text":"tide0000000000000000"}`
	l.line(depth, "whisper {\n  to   = %s\n  body = { kind = \"whisper\", to = to, text = \"${mark}%s\" }\n}", to,
		l.padding(st, len(words)))
}

func (l *liken) repeat(all []Step, i, depth int) {
	st, r := &all[i], all[i].Repeat
	l.line(depth, "repeat {")
	for _, a := range []struct {
		given bool
		text  string
	}{
		{r.Every > 0, fmt.Sprintf("every = %q", r.Every)},
		{r.Jitter > 0, fmt.Sprintf("jitter = \"%g%%\"", 100*r.Jitter)},
		{r.Times > 0, fmt.Sprintf("times = %d", r.Times)},
		{r.Random, `pattern = "poisson"`},
		{r.Burst > 1, fmt.Sprintf("burst = %d", r.Burst)},
		{r.Shared == PerCrew, `per = "crew"`},
		{r.Shared == PerRoom, `per = "room"`},
	} {
		if a.given {
			l.line(depth+1, "%s", a.text)
		}
	}
	if r.Every == 0 {
		l.line(depth+1, "closed = true")
	}
	l.steps(all, i+1, st.Goto, depth+1)
	l.line(depth, "}")
}

// branch writes what a client does if its condition holds; what else it would do is another one's.
func (l *liken) branch(all []Step, i, depth int) {
	st := &all[i]
	if st.When == nil || len(st.When.Locals()) > 0 {
		l.leaveOut("what depends on what the server says")
		return
	}
	end := st.Goto
	holds := l.column(func() string { return strconv.FormatBool(st.When.True(&l.scope)) })
	if all[end-1].Do == Jump && end-1 > i {
		l.line(depth, "when {\n  that = %s == \"false\"", holds)
		l.steps(all, end, all[end-1].Goto, depth+1)
		l.line(depth, "}")
		end--
	}
	l.line(depth, "when {\n  that = %s == \"true\"", holds)
	l.steps(all, i+1, end, depth+1)
	l.line(depth, "}")
}

// choose writes a choice, and gives the index of its last step.
func (l *liken) choose(all []Step, i, depth int) int {
	options := all[i].Options
	if len(options) == 0 {
		return i
	}
	after, last := i, 0.0
	l.line(depth, "choose {")
	for k, o := range options {
		jump := o.Goto // of the option's end
		for jump < len(all) && !(all[jump].Do == Jump && (k+1 == len(options) || jump+1 == options[k+1].Goto)) {
			jump++
		}
		l.line(depth+1, "option {\n  weight = %g", o.Below-last)
		l.steps(all, o.Goto, jump, depth+2)
		l.line(depth+1, "}")
		last = o.Below
		if jump < len(all) {
			after = all[jump].Goto - 1
		}
	}
	l.line(depth, "}")
	return max(i, after)
}
