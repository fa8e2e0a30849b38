// Package probing is the Probe view: one to three clients driven by hand, each
// in its lane.
package probing

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"tidepull/internal/base/plain"
	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/replay"
	"tidepull/internal/tui/look"
	"tidepull/internal/wire/http1"
)

// Help explains the view in words.
const Help = `Probe answers: what does the server say to one client?

Each client has a lane. It shows every phase of the connection with its time,
the request and its answer, and then each frame: <- came, -> went; on the left
the time since the last one. What is refused is said in words, with what to try.

Type, and enter sends it as a text message (over tcp:// as a line). ctrl+b sends
hexadecimal digits as a binary message, ctrl+f a file, ctrl+x closes with a
close code, ctrl+p pings. Up and down bring back what was typed.

ctrl+n adds a client, up to three; tab goes from one to the next, and what is
typed goes to the one that is marked. ctrl+r dials again. ctrl+a, ctrl+o, ctrl+e
and ctrl+l change the address, the origin, the header fields (NAME: VALUE, more
of them separated by ;) and the subprotocols, and dial again.

ctrl+g draws a number in the messages against time: type where it stands in the
JSON, such as level or berth.depth; nothing ends it.

ctrl+d folds and unfolds header fields and messages, page up and page down look
back. ctrl+s keeps what was done as a session of the trial language, in a file
here.`

// maxClients is how many clients there may be.
const maxClients = 3

// maxEvents bounds what is kept of a lane.
const maxEvents = 5000

// A lane is one client.
type lane struct {
	target   probe.Target
	line     *probe.Line
	events   []probe.Event
	unfolded bool
	back     int // lines scrolled back
	dropped  int // events that are not kept
	told     []point
}

// inbox is where lines put events; it is the only thing shared with them.
type inbox struct {
	mu      sync.Mutex
	events  []probe.Event
	dropped [maxClients]int // by lane: events that came while too many waited
	signal  chan struct{}
}

// put is called by a line's own goroutine, and never waits for the screen: what is too much is counted.
func (b *inbox) put(e probe.Event) {
	b.mu.Lock()
	if len(b.events) < 4*maxEvents {
		b.events = append(b.events, e)
	} else {
		b.dropped[e.Line-1]++
	}
	b.mu.Unlock()
	select {
	case b.signal <- struct{}{}:
	default:
	}
}

func (b *inbox) take() (events []probe.Event, dropped [maxClients]int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	events, dropped = b.events, b.dropped
	b.events, b.dropped = nil, [maxClients]int{}
	return events, dropped
}

// Arrived tells that events may have come.
type Arrived struct{}

// mode is what the input is for.
type mode int

const (
	text mode = iota
	bytes
	file
	closing
	address
	origin
	header
	subprotocol
	drawing
)

var modes = [...]struct{ key, prompt, empty string }{
	text:  {"", "send ", "type a message, enter sends it"},
	bytes: {"ctrl+b", "send bytes ", "hexadecimal digits, such as 01 ff"}, file: {"ctrl+f", "send file ", "a path"},
	closing:     {"ctrl+x", "close with ", "a close code; nothing is 1000"},
	address:     {"ctrl+a", "address ", "such as ws://127.0.0.1:7411/live"},
	origin:      {"ctrl+o", "origin ", "such as http://harbour.example"},
	header:      {"ctrl+e", "header fields ", "NAME: VALUE; NAME: VALUE"},
	subprotocol: {"ctrl+l", "subprotocols ", "separated by commas"},
	drawing:     {"ctrl+g", "draw the number in ", "such as level or berth.depth; nothing ends it"},
}

// A Model is the view's state.
type Model struct {
	lanes   []*lane
	at      int
	input   textinput.Model
	mode    mode
	history []string
	past    int // how far back in it; 0: not
	inbox   *inbox
	drawn   *told // the number that is drawn; nil: none
	notice  string
	folder  string
}

// New makes the view and begins to connect its first client.
func New(t probe.Target) *Model {
	m := &Model{input: textinput.New(), inbox: &inbox{signal: make(chan struct{}, 1)}, folder: "."}
	m.input.CharLimit = 1 << 16
	m.setMode(text)
	m.input.Focus()
	m.add(t)
	return m
}

// Shown makes a view of clients that are not connected, with events that came:
// for drawing alone.
func Shown(clients int, address string, events []probe.Event) *Model {
	m := &Model{input: textinput.New(), inbox: &inbox{signal: make(chan struct{}, 1)}}
	for range clients {
		m.lanes = append(m.lanes, &lane{target: probe.Target{URL: address}, events: events})
	}
	m.setMode(text)
	return m
}

// drawEvery is how often what comes is drawn, at most.
const drawEvery = 120 * time.Millisecond

// Wait waits for events.
func (m *Model) Wait() tea.Cmd {
	signal := m.inbox.signal
	return func() tea.Msg {
		<-signal
		time.Sleep(drawEvery) // more may come with it: keys are answered in the meantime
		return Arrived{}
	}
}

func (m *Model) add(t probe.Target) {
	m.lanes = append(m.lanes, &lane{target: t})
	m.at = len(m.lanes) - 1
	m.dial()
}

// dial connects the marked client again.
func (m *Model) dial() {
	l := m.lanes[m.at]
	if l.line != nil {
		l.line.Hangup()
	}
	m.Take()
	l.back = 0
	number := m.at + 1
	l.line = probe.Dial(number, l.target, m.inbox.put)
}

// Take puts what has come into the lanes.
func (m *Model) Take() {
	events, dropped := m.inbox.take()
	for i, n := range dropped {
		if i < len(m.lanes) {
			m.lanes[i].dropped += n
		}
	}
	for _, e := range events {
		l := m.lanes[e.Line-1]
		l.events = append(l.events, e)
		if m.drawn != nil {
			m.drawn.note(l, &e)
		}
		if n := len(l.events) - maxEvents; n > 0 {
			l.dropped += n
			l.events = l.events[len(l.events)-maxEvents:]
		}
	}
}

// Close ends all connections.
func (m *Model) Close() {
	for _, l := range m.lanes {
		l.line.Hangup()
	}
	select { // let Wait end
	case m.inbox.signal <- struct{}{}:
	default:
	}
}

// setMode has the line at the bottom ask for something else; it begins with what is there.
func (m *Model) setMode(to mode) {
	m.mode = to
	m.input.Prompt = modes[to].prompt
	m.input.Placeholder = modes[to].empty
	m.input.SetValue("")
	if len(m.lanes) == 0 {
		return
	}
	t := &m.lanes[m.at].target
	switch to {
	case address:
		m.input.SetValue(t.URL)
	case origin:
		m.input.SetValue(t.Origin)
	case header:
		var fields []string
		for _, f := range t.Fields {
			fields = append(fields, f.Name+": "+f.Value)
		}
		m.input.SetValue(strings.Join(fields, "; "))
	case subprotocol:
		m.input.SetValue(strings.Join(t.Protocols, ", "))
	}
	m.input.CursorEnd()
}

// Empty reports whether nothing is typed, so that a key may mean something else.
func (m *Model) Empty() bool { return m.mode == text && m.input.Value() == "" }

// Update handles a key; leave tells that the user wants to leave.
func (m *Model) Update(msg tea.KeyPressMsg) (leave bool) {
	m.notice = ""
	l := m.lanes[m.at]
	k := msg.String()
	for i := range modes {
		if i > 0 && modes[i].key == k {
			m.setMode(mode(i))
			return false
		}
	}
	switch k {
	case "esc":
		if m.mode == text && m.input.Value() == "" {
			return true
		}
		m.setMode(text)
	case "ctrl+c":
		return true
	case "enter":
		m.enter()
	case "tab":
		m.at = (m.at + 1) % len(m.lanes)
	case "ctrl+n":
		if len(m.lanes) == maxClients {
			m.notice = fmt.Sprintf("there are %d clients already", maxClients)
			return false
		}
		m.add(l.target)
	case "ctrl+r":
		m.dial()
	case "ctrl+p":
		l.line.Ping() // what goes wrong stands in the lane
	case "ctrl+d":
		l.unfolded = !l.unfolded
	case "ctrl+s":
		m.keep()
	case "pgup":
		l.back += 10
	case "pgdown":
		l.back = max(0, l.back-10)
	case "up":
		m.recall(1)
	case "down":
		m.recall(-1)
	default:
		m.input, _ = m.input.Update(msg)
	}
	return false
}

// Paste puts text into the input.
func (m *Model) Paste(msg tea.PasteMsg) { m.input, _ = m.input.Update(msg) }

// recall goes through what was typed before, the newest first.
func (m *Model) recall(by int) {
	m.past = min(max(0, m.past+by), len(m.history))
	m.input.SetValue("")
	if m.past > 0 {
		m.input.SetValue(m.history[len(m.history)-m.past])
	}
	m.input.CursorEnd()
}

// enter does what was typed.
func (m *Model) enter() {
	typed := m.input.Value()
	l := m.lanes[m.at]
	if m.mode == text && typed == "" {
		return
	}
	if err := m.do(l, typed); err != nil {
		m.notice = err.Error()
		return // it stays to be put right
	}
	if t := strings.TrimSpace(typed); m.mode == text && t != "" && (t[0] == '{' || t[0] == '[') &&
		!json.Valid([]byte(t)) {
		m.notice = "sent, but it is no valid JSON"
	}
	l.back = 0
	if m.mode <= file && (len(m.history) == 0 || m.history[len(m.history)-1] != typed) {
		m.history = append(m.history, typed)
	}
	m.past = 0
	m.setMode(text)
}

// do does what was typed, as the mode says. An error leaves it to be corrected.
func (m *Model) do(l *lane, typed string) error {
	t := &l.target
	switch m.mode {
	case text:
		said, err := probe.Unescape(typed)
		if err != nil {
			return err
		}
		return l.line.Send([]byte(said), false)
	case bytes:
		b, err := probe.ParseHex(typed)
		if err != nil {
			return err
		}
		return l.line.Send(b, true)
	case file:
		b, err := os.ReadFile(typed)
		if err != nil {
			return err
		}
		return l.line.Send(b, true)
	case closing:
		code, err := probe.ParseCode(strings.TrimSpace(typed))
		if err != nil {
			return err
		}
		return l.line.Close(code, "")
	case address:
		if _, err := probe.ParseURL(typed); err != nil {
			return err
		}
		t.URL = typed
	case origin:
		t.Origin = strings.TrimSpace(typed)
	case header:
		fields, err := parseFields(typed)
		if err != nil {
			return err
		}
		t.Fields = fields
	case drawing:
		m.draws(strings.TrimSpace(typed))
		return nil
	case subprotocol:
		t.Protocols = nil
		for _, p := range strings.Split(typed, ",") {
			if p = strings.TrimSpace(p); p != "" {
				t.Protocols = append(t.Protocols, p)
			}
		}
	}
	m.dial()
	return nil
}

// parseFields reads header fields as they are typed: NAME: VALUE; NAME: VALUE.
func parseFields(s string) (fields []http1.Field, err error) {
	for _, part := range strings.Split(s, ";") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		name, value, ok := strings.Cut(part, ":")
		if !ok {
			return nil, fmt.Errorf("%q is not NAME: VALUE", strings.TrimSpace(part))
		}
		fields = append(fields, http1.Field{Name: strings.TrimSpace(name), Value: strings.TrimSpace(value)})
	}
	return fields, nil
}

// keep writes what was done as a trial.
func (m *Model) keep() {
	var all []probe.Event
	for _, l := range m.lanes {
		all = append(all, l.events...)
	}
	name := fmt.Sprintf("%s/probe-%s.trial.hcl", m.folder, time.Now().Format("20060102-150405"))
	session := replay.SessionOf(probe.Recording(m.lanes[0].target, sorted(all)))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err == nil {
		_, err = f.WriteString(session)
		if bad := f.Close(); err == nil {
			err = bad
		}
	}
	if err != nil {
		m.notice = "nothing was written: " + err.Error()
		return
	}
	m.notice = "written: " + strings.TrimPrefix(name, "./")
}

// Notice is what the last key led to, or "".
func (m *Model) Notice() string { return plain.Text(m.notice, 300) }

// Hints are the keys of the view, for its foot.
func Hints(p *look.Palette) string {
	var parts []string
	for _, h := range [][2]string{{"enter", "send"}, {"ctrl", ""}, {"p", "ping"}, {"b", "bytes"}, {"f", "file"},
		{"x", "close"}, {"r", "redial"}, {"n", "another"}, {"o", "origin"}, {"e", "header"}, {"l", "protocol"},
		{"g", "draw"},
		{"d", "unfold"}, {"s", "keep"}, {"tab", "next"}, {"?", "help"}, {"esc", "leave"}} {
		parts = append(parts, strings.TrimSpace(p.Draw(look.Strong, h[0])+" "+p.Draw(look.Faint, h[1])))
	}
	return strings.Join(parts, "  ")
}
