package impair

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

const ms = time.Millisecond

// A net is a driver whose clock moves only in Wait, and that writes down what comes to it and to
// its owner, and when.
type net struct {
	poll.Driver // what is not written below must not be called
	now         mono.Time
	log         []string
	held        bool
}

func (n *net) note(format string, args ...any) {
	n.log = append(n.log, fmt.Sprintf("%d ", time.Duration(n.now)/ms)+fmt.Sprintf(format, args...))
}

func (n *net) OnWire()                                {}
func (n *net) Now() mono.Time                         { return n.now }
func (n *net) CaughtUp() mono.Time                    { return n.now }
func (n *net) Queued(int32) int                       { return 0 }
func (n *net) Dial(int32, wire.Endpoint) error        { n.note("dial"); return nil }
func (n *net) Write(_ int32, b []byte) bool           { n.note("up %s", b); return true }
func (n *net) Hold(_ int32, on bool)                  { n.held = on }
func (n *net) Hangup(int32)                           { n.note("hang up") }
func (n *net) CloseWhenFlushed(int32)                 { n.note("finish") }
func (n *net) Accepted(int32)                         {}
func (n *net) Opened(int32)                           { n.note("open") }
func (n *net) Data(_ int32, b []byte, _ mono.Span)    { n.note("down %s", b) }
func (n *net) Broke(_ int32, err error)               { n.note("broke: %v", err) }
func (n *net) Wait(t mono.Time, _ poll.Handler) error { n.now = max(n.now, t); return nil }

// A scene is a path over a net, with one line.
type scene struct {
	*net
	d    *Driver
	what *trial.Effects
}

func newScene(e trial.Effects, datagrams bool) *scene {
	s := &scene{net: &net{}, what: &e}
	s.d = New(s.net, 1)
	s.d.h = s.net
	s.d.For = func(int32) *trial.Effects { return s.what }
	err := s.d.Dial(0, wire.Endpoint{Addr: netip.MustParseAddrPort("127.0.0.1:7411"), Datagrams: datagrams})
	if err != nil {
		s.note("not dialled: %v", errors.Is(err, syscall.ECONNREFUSED))
	}
	s.log = slices.DeleteFunc(s.log, func(l string) bool { return l == "0 dial" && !e.Stall })
	return s
}

// until lets time pass.
func (s *scene) until(at time.Duration) {
	for end := mono.Time(at); s.now < end; {
		if err := s.d.Wait(end, s.net); err != nil {
			panic(err)
		}
	}
}

func (s *scene) up(text string)   { s.d.Write(0, []byte(text)) }
func (s *scene) down(text string) { s.d.Data(0, []byte(text), mono.At(s.now)) }

// becomes has the path do something else.
func (s *scene) becomes(e *trial.Effects) {
	s.what = e
	s.d.Changed(0)
}

const upgrade = "GET /live HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n"

// TestPath: what each effect does to what goes over a line, and when.
func TestPath(t *testing.T) {
	both := func(w trial.Way) trial.Effects { return trial.Effects{Up: w, Down: w} }
	for name, c := range map[string]struct {
		effects   trial.Effects
		datagrams bool
		does      func(*scene)
		want      string
	}{
		"nothing": {trial.Effects{}, false, func(s *scene) { s.up("a"); s.down("b") }, "0 up a, 0 down b"},
		"delay": {both(trial.Way{Delay: 100 * ms}), false, func(s *scene) {
			s.up("a")
			s.until(30 * ms)
			s.down("b")
			s.up("c")
		}, "100 up a, 130 up c, 130 down b"},
		"delay of one way": {trial.Effects{Down: trial.Way{Delay: 100 * ms}}, false, func(s *scene) {
			s.up("a")
			s.down("b")
		}, "0 up a, 100 down b"},
		"a delay that ends": {both(trial.Way{Delay: 100 * ms}), false, func(s *scene) {
			s.up("a")
			s.until(30 * ms)
			s.becomes(nil)
			s.until(31 * ms)
			s.up("b")
		}, "30 up a, 31 up b"},
		"too much on its way": {both(trial.Way{Delay: 100 * ms}), false, func(s *scene) {
			s.down(strings.Repeat("x", maxWaiting+1))
			s.note("reads on: %v", !s.held)
			s.up(strings.Repeat("y", maxWaiting+1))
			s.until(101 * ms)
			s.note("reads on: %v", !s.held)
			s.log = slices.DeleteFunc(s.log, func(l string) bool { return len(l) > 100 })
		}, "0 reads on: false, 101 reads on: true"},
		"a delay that ends while another fault goes on": {both(trial.Way{Delay: 3000 * ms}), false, func(s *scene) {
			s.up("a")
			s.until(30 * ms)
			s.becomes(&trial.Effects{Up: trial.Way{Piece: 100}, Down: trial.Way{Piece: 100}})
			s.until(31 * ms)
			s.up("b")
		}, "30 up a, 31 up b"},
		"a rate that ends while a delay goes on": {both(trial.Way{Rate: 10, Delay: 5 * ms}), false, func(s *scene) {
			s.up("0123456789")
			s.until(30 * ms)
			s.becomes(&trial.Effects{Up: trial.Way{Delay: 5 * ms}})
			s.until(31 * ms)
			s.up("b")
		}, "35 up 0123456789, 36 up b"},
		"a rate that grows": {both(trial.Way{Rate: 10}), false, func(s *scene) {
			s.up("0123456789")
			s.until(50 * ms)
			s.becomes(&trial.Effects{Up: trial.Way{Rate: 1000}})
			s.up("b")
		}, "60 up 0123456789, 61 up b"},
		"freeze": {both(trial.Way{Frozen: true}), false, func(s *scene) {
			s.up("a")
			s.down("b")
			s.until(200 * ms)
			if !s.held {
				s.note("it reads on")
			}
			s.becomes(nil)
			s.until(201 * ms)
			s.up("c")
		}, "200 up a, 200 down b, 201 up c"},
		"what broke while frozen": {both(trial.Way{Frozen: true}), false, func(s *scene) {
			s.down("b")
			s.d.Broke(0, errors.New("reset"))
			s.until(50 * ms)
			s.becomes(nil)
		}, "50 down b, 50 hang up, 50 broke: reset"},
		"closed while delayed": {both(trial.Way{Delay: 100 * ms}), false, func(s *scene) {
			s.up("a")
			s.d.CloseWhenFlushed(0)
		}, "0 up a, 0 finish"},
		"bandwidth": {both(trial.Way{Rate: 100}), false, func(s *scene) { s.up("0123456789"); s.up("abcde") },
			"100 up 0123456789, 150 up abcde"},
		"split": {both(trial.Way{Piece: 2, Rate: 100}), false, func(s *scene) { s.up("abcde") },
			"20 up ab, 40 up cd, 50 up e"},
		"join": {both(trial.Way{Join: 100 * ms}), false, func(s *scene) {
			s.up("a")
			s.until(99 * ms)
			s.up("b")
			s.until(101 * ms)
			s.up("c")
		}, "100 up ab, 200 up c"},
		"corrupt": {both(trial.Way{Corrupt: 1}), false, func(s *scene) {
			s.d.Corrupted = func(_ int32, up bool, b []byte) { s.note("corrupts %v %s", up, b) }
			s.up("aaaa")
		}, "0 corrupts true aaaa, 0 up [one bit]"},
		"lose": {both(trial.Way{Lose: 1}), true, func(s *scene) {
			s.d.Lost = func(_ int32, up bool, b []byte) { s.note("lost %v %s", up, b) }
			s.up("a")
			s.down("b")
		}, "0 lost true a, 0 lost false b"},
		"no bytes of a stream are lost": {both(trial.Way{Lose: 1, Double: 1, Reorder: 1}), false, func(s *scene) {
			s.up("a")
			s.up("b")
		}, "0 up a, 0 up b"},
		"double": {both(trial.Way{Double: 1}), true, func(s *scene) {
			s.d.Doubled = func(_ int32, up bool, b []byte) { s.note("doubled %v %s", up, b) }
			s.up("a")
		}, "0 doubled true a, 0 up a, 0 up a"},
		"reorder": {trial.Effects{Up: trial.Way{Reorder: 1}}, true, func(s *scene) {
			s.up("a")
			s.until(10 * ms)
			s.becomes(&trial.Effects{Up: trial.Way{Delay: ms}})
			s.up("b")
		}, "11 up b, 50 up a"},
		"refuse": {trial.Effects{Refuse: true}, false, func(*scene) {}, "0 not dialled: true"},
		"stall": {trial.Effects{Stall: true}, false, func(s *scene) {
			s.until(300 * ms)
			s.note("stalled: %d", s.d.Counts.Stalled)
			s.becomes(nil)
		}, "300 stalled: 1, 300 dial"},
		"answer": {trial.Effects{Status: 503}, false, func(s *scene) {
			s.up(upgrade[:20])
			s.up(upgrade[20:])
		}, "0 down HTTP/1.1 503 Service Unavailable, 0 hang up, 0 broke: " + poll.ErrEnded.Error()},
		"answer, and no upgrade": {trial.Effects{Status: 503}, false, func(s *scene) {
			s.up("GET / HTTP/1.1\r\nHost: x\r\n\r\n")
			s.up(upgrade)
		}, "0 up GET / HTTP/1.1|Host: x, 0 up " + strings.TrimSuffix(strings.ReplaceAll(upgrade, "\r\n", "|"), "||")},
		"strip": {trial.Effects{Strip: true}, false, func(s *scene) { s.up(upgrade) },
			"0 up GET /live HTTP/1.1|Host: x"},
		"cut if idle": {trial.Effects{Idle: 100 * ms}, false, func(s *scene) {
			s.until(60 * ms)
			s.up("a")
			s.until(120 * ms)
			s.down("b")
		}, "60 up a, 120 down b, 220 hang up, 220 broke: " + errCutIdle.Error()},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScene(c.effects, c.datagrams)
			c.does(s)
			s.until(time.Second)
			got := strings.Join(s.log, ", ")
			if name == "corrupt" && len(s.log) == 2 {
				changed := 0
				for _, b := range []byte(strings.TrimPrefix(s.log[1], "0 up ")) {
					for x := b ^ 'a'; x != 0; x &= x - 1 {
						changed++
					}
				}
				if changed == 1 {
					got = s.log[0] + ", 0 up [one bit]"
				}
			}
			got, _, _ = strings.Cut(strings.ReplaceAll(strings.ReplaceAll(got, "\r\n", "|"), "||", ""), "\x00")
			got = strings.ReplaceAll(got, "|Content-Length: 0|Connection: close", "")
			if got != c.want {
				t.Errorf("%s\nwant %s", got, c.want)
			}
			// Nothing is kept of a path that does nothing, and over which nothing is on its way.
			s.becomes(nil)
			s.until(2 * time.Second)
			if s.d.line(0) != nil || s.d.Queued(0) != 0 {
				t.Errorf("it is still impaired: %+v", s.d.line(0))
			}
		})
	}
}

// TestSlowOwner: more than the bound is not read for an owner that reads nothing, and all that was
// comes in its order once it does.
func TestSlowOwner(t *testing.T) {
	s := newScene(trial.Effects{Down: trial.Way{Delay: ms}}, false)
	s.d.Hold(0, true)
	for i := 0; !s.held || i < 1; i++ {
		s.down(strings.Repeat("x", 64<<10))
	}
	s.net.held = false
	for s.d.line(0).queues[down].bytes <= maxWaiting {
		s.down(strings.Repeat("y", 64<<10))
	}
	if s.until(10 * ms); len(s.log) > 0 || !s.held {
		t.Fatalf("held %v; %.100s", s.held, s.log)
	}
	s.d.Hold(0, false)
	s.until(20 * ms)
	if all := strings.Join(s.log, ""); strings.Count(all, "down") < 5 || s.held ||
		strings.LastIndex(all, "x") > strings.Index(all, "y") && strings.Contains(all, "y") {
		t.Errorf("held %v; %d came", s.held, len(s.log))
	}
}
