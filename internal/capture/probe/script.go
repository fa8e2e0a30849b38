package probe

import (
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/wire/ws"
)

// An Action is one thing that a scripted probe does, in order.
type Action struct {
	Do   string // "send", "send-hex", "send-file", "expect", "ping", "close", "pause"
	Text string
}

// An Unmet is what was expected and has not come.
type Unmet struct {
	Expected string
	Why      string
}

func (e *Unmet) Error() string { return fmt.Sprintf("expected %s: %s", e.Expected, e.Why) }

// A NoConnection is why there was nobody to talk to.
type NoConnection struct{ Why string }

func (e *NoConnection) Error() string { return "no connection: " + e.Why }

// compiled is an Action that is ready to be done.
type compiled struct {
	Action
	payload []byte
	binary  bool
	match   func([]byte) bool
	code    uint16
	pause   time.Duration
}

// Prepare checks actions before anything is done.
func prepare(actions []Action) (all []compiled, err error) {
	for _, a := range actions {
		c := compiled{Action: a}
		switch a.Do {
		case "send":
			var text string
			text, err = Unescape(a.Text)
			c.payload = []byte(text)
		case "send-hex":
			c.payload, err = ParseHex(a.Text)
			c.binary = true
		case "send-file":
			c.payload, err = os.ReadFile(a.Text)
			c.binary = true
		case "expect":
			c.match, err = matcher(a.Text)
		case "close":
			c.code, err = ParseCode(a.Text)
		case "pause":
			c.pause, err = time.ParseDuration(a.Text)
		}
		if err != nil {
			return nil, fmt.Errorf("%s %q: %w", a.Do, a.Text, err)
		}
		all = append(all, c)
	}
	return all, nil
}

// ParseHex reads hexadecimal digits, with or without blanks.
func ParseHex(s string) ([]byte, error) {
	b, err := hex.DecodeString(strings.Join(strings.Fields(s), ""))
	if err != nil {
		return nil, errors.New("these are no hexadecimal digits, two for each byte")
	}
	return b, nil
}

// ParseCode reads a close code that may be sent.
func ParseCode(s string) (uint16, error) {
	if s == "" {
		return ws.CloseNormal, nil
	}
	n, err := strconv.ParseUint(s, 10, 16)
	if err != nil || n < 1000 || n > 4999 {
		return 0, errors.New("a close code goes from 1000 to 4999")
	}
	return uint16(n), nil
}

// matcher recognises a message: by a part of it, or by /a regular expression/.
func matcher(s string) (func([]byte) bool, error) {
	if len(s) > 1 && s[0] == '/' && s[len(s)-1] == '/' {
		re, err := regexp.Compile(s[1 : len(s)-1])
		if err != nil {
			return nil, err
		}
		return re.Match, nil
	}
	return func(b []byte) bool { return strings.Contains(string(b), s) }, nil
}

// Run connects, does the actions in order, and closes. emit is called with
// each event. An expectation looks at the messages that came since the one
// before was met. The error is an *Unmet, a *NoConnection, or says which action
// makes no sense.
func Run(t Target, actions []Action, within time.Duration, emit func(Event)) error {
	all, err := prepare(actions)
	if err != nil {
		return err
	}
	if _, err := ParseURL(t.URL); err != nil {
		return err
	}
	events := make(chan Event, 4096)
	gone := make(chan struct{}) // what still comes must not hold the line up
	l := Dial(1, t, func(e Event) {
		select {
		case events <- e:
		case <-gone:
		}
	})
	defer func() {
		close(gone)
		l.Hangup()
	}()
	s := script{line: l, events: events, emit: emit, within: within}
	if err := s.untilOpen(); err != nil {
		return err
	}
	for _, a := range all {
		if err := s.do(a); err != nil {
			s.drain()
			return err
		}
	}
	return s.closeInOrder(all)
}

type script struct {
	line   *Line
	events chan Event
	emit   func(Event)
	within time.Duration
	heard  [][]byte // since the last expectation was met, up to a bound: the newest
	first  int      // the number of the first of them, of all that were ever heard
	bytes  int      // of them
	why    string
	over   bool
}

// next waits for an event.
func (s *script) next(timeout <-chan time.Time) (Event, bool) {
	select {
	case e := <-s.events:
		s.emit(e)
		switch {
		case e.Message != nil && e.What == In:
			s.hear(e.Message)
		case e.What == Refused:
			s.why = e.Why
		case e.What == Ended:
			s.over = true
			if s.why == "" {
				s.why = e.Why
			}
		}
		return e, true
	case <-timeout:
		return Event{}, false
	}
}

// Bounds on what is kept for expectations to come.
const (
	maxHeard      = 1 << 16
	maxHeardBytes = 32 << 20
)

func (s *script) hear(m []byte) {
	s.heard, s.bytes = append(s.heard, m), s.bytes+len(m)
	for len(s.heard) > maxHeard || s.bytes > maxHeardBytes && len(s.heard) > 1 {
		s.forget(1)
	}
}

// forget takes the n oldest messages out of those that were heard.
func (s *script) forget(n int) {
	for _, m := range s.heard[:n] {
		s.bytes -= len(m)
	}
	clear(s.heard[:n])
	s.heard, s.first = s.heard[n:], s.first+n
}

// drain says what has come already, and the end if it is near.
func (s *script) drain() {
	for end := time.Now().Add(time.Second); time.Now().Before(end) &&
		(!s.line.Reported() || len(s.events) > 0 || !s.over && !s.line.Open()); {
		s.next(time.After(5 * time.Millisecond))
	}
}

func (s *script) untilOpen() error {
	for {
		e, _ := s.next(nil)
		switch {
		case e.What == Opened:
			return nil
		case s.over:
			return &NoConnection{s.why}
		}
	}
}

func (s *script) do(a compiled) error {
	switch a.Do {
	case "send", "send-hex", "send-file":
		return s.line.Send(a.payload, a.binary)
	case "ping":
		if err := s.line.Ping(); err != nil {
			return err
		}
		return s.wait("the answer to a ping", func(e Event) bool { return e.Trip > 0 })
	case "close":
		if err := s.line.Close(a.code, ""); err != nil {
			return err
		}
		return s.wait("the end of the connection", func(e Event) bool { return e.What == Ended })
	case "pause":
		for end := time.After(a.pause); ; {
			if _, ok := s.next(end); !ok || s.over {
				return nil
			}
		}
	}
	return s.expect(a)
}

func (s *script) expect(a compiled) error {
	what := strconv.Quote(plain.Text(a.Text, 200))
	next := 0 // the number of the first message that was not tried yet
	met := func() bool {
		for i := max(0, next-s.first); i < len(s.heard); i++ {
			if a.match(s.heard[i]) {
				s.forget(i + 1)
				return true
			}
		}
		next = s.first + len(s.heard)
		return false
	}
	if met() {
		return nil
	}
	return s.wait(what, func(Event) bool { return met() })
}

// wait waits for an event for which something holds.
func (s *script) wait(what string, holds func(Event) bool) error {
	for end := time.After(s.within); ; {
		e, ok := s.next(end)
		switch {
		case ok && holds(e):
			return nil
		case s.over:
			return &Unmet{what, "the connection ended: " + s.why}
		case !ok:
			return &Unmet{what, fmt.Sprintf("it has not come in %v", s.within)}
		}
	}
}

// closeInOrder closes the connection in order, if the actions did not.
func (s *script) closeInOrder(all []compiled) error {
	if s.over || s.line.tcp {
		return nil
	}
	if !s.line.Open() || s.line.Close(ws.CloseNormal, "") != nil {
		s.drain() // it is closed already
		return nil
	}
	if err := s.wait("the end of the connection", func(e Event) bool { return e.What == Ended }); err != nil &&
		!s.over {
		return nil // what was asked for is done
	}
	return nil
}
