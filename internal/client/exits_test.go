package client

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire/transport"
)

var update = flag.Bool("update", false, "write docs/endings.md again")

// leaving has a crew that stays away, one that comes back and begins with what is new, one that
// catches up, and one with two routes.
const leaving = `
trial "leaving" {}
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "watched"
  route "polling" { polling = "http://127.0.0.1:7411/poll" }
  promise {
    from  = "server"
    every = "10s"
  }
}
dialect "watched" {
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered"
  }
  joined {
    when = msg.kind == "joined"
    name = msg.name
    room = msg.room
  }
  gone {
    when = msg.kind == "gone"
    name = msg.name
    room = msg.room
  }
}
session "watch" {
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "1s"
    expect "answer" { when = msg.kind == "answer" }
    barrier "all there" { within = "30s" }
    close {}
  }
}
crew "away" {
  clients = 2
  session = session.watch
  routes  = ["websocket"]
}
crew "back" {
  clients   = 2
  session   = session.watch
  routes    = ["websocket"]
  reconnect {}
}
crew "caught" {
  clients = 2
  session = session.watch
  routes  = ["websocket"]
  reconnect { catch_up = true }
}
crew "routed" {
  clients = 2
  session = session.watch
  routes  = ["websocket", "polling"]
}
tide {
  flood "100%" { over = "1s" }
}
`

// staged gives a client of a crew in the middle of its session: connected, in a room, in a
// repeat, at an expect step or a barrier.
func staged(t *testing.T, crew uint16, at trial.StepKind, now mono.Time) (*Env, *Client) {
	t.Helper()
	tr, err := language.Parse([]byte(leaving), "leaving.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	e := NewEnv(tr, NewNames(), logbook.NewBook(0, 1))
	e.Shares, e.ReadUpTo = 2, func() mono.Time { return now }
	e.Doubtful = func(mono.Time, mono.Time, time.Duration) bool { return true }
	e.Places = [][]Place{{{}}, {{}}}
	c := e.New(ledger.Client(2*crew), crew, 0)
	c.Start(e, 0)
	p, s, j := &c.path, &c.script, &c.judge
	p.phase, p.again, j.naming, j.room = open, true, nameConfirmed, e.roomNumber([]byte("lock-1"))
	s.iterations, s.depth = new([trial.MaxNesting]iteration), 1
	s.iterations[0].at = 2
	e.repeatsChange(1)
	for i := range s.session.Steps {
		if s.session.Steps[i].Do == at {
			s.pc = int32(i)
		}
	}
	s.wait = map[trial.StepKind]wait{trial.Expect: forExpected, trial.Wait: forOthers}[at]
	p.keepsRoom(e, j.room, true)
	c.pulse.beats = &beats{heard: now}
	j.own().past = &pastWatch{room: j.room}
	if tr := p.routes(); tr != nil {
		tr.settles = now.Add(time.Second)
	}
	e.IO.Clear()
	e.Facts, e.Notes = fact.Log{}, nil
	e.at(&c, now)
	return e, &c
}

// told is what was told of the client's rooms.
func told(e *Env) (words string) {
	names := map[fact.Kind]string{fact.Goes: "goes", fact.Closes: "closes", fact.IsGone: "is gone",
		fact.Suspends: "suspends", fact.Withdraws: "withdraws"}
	for _, f := range e.Facts.Facts {
		name := names[f.Kind]
		if f.Kind == fact.IsHindered && excuse.Cause(f.What) == excuse.HungUp {
			name = "hangs up"
		}
		if name != "" {
			words += name + ". "
		}
	}
	return strings.TrimSpace(words)
}

// TestExits goes through the table row by row: whatever a connection ends by, the client is what
// its row says, counted once, out of its repeats and rooms, and held at no barrier.
func TestExits(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	crews := []string{"away", "back", "caught", "routed"}
	for why := range numCauses {
		for crew, name := range crews {
			for step, at := range map[string]trial.StepKind{"expect": trial.Expect, "barrier": trial.Wait,
				"close": trial.Close} {
				t.Run(fmt.Sprintf("%s/%s/%s", exits[why].what, name, step), func(t *testing.T) {
					leaves(t, why, uint16(crew), at, now)
				})
			}
		}
	}
	if rows := endingsPage(); *update {
		if err := os.WriteFile("../../docs/endings.md", []byte(rows), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if kept, err := os.ReadFile("../../docs/endings.md"); err != nil || string(kept) != rows {
		t.Errorf("docs/endings.md is not what the table says (%v); go test ./internal/client -run TestExits -update "+
			"writes it", err)
	}
}

func leaves(t *testing.T, why cause, crew uint16, at trial.StepKind, now mono.Time) {
	e, c := staged(t, crew, at, now)
	p, s, j, row, caughtUp := &c.path, &c.script, &c.judge, &exits[why], crew == 2
	away := why == returnFailed || why == returnDenied || why == returnHindered || why == giveUp || why == ebbAway
	if away {
		if crew != 1 && crew != 2 {
			t.Skip("it does not come back")
		}
		p.ends(e, ending{cause: byServer, err: errors.New("reset")})
		p.phase, p.rare.comeback.tries = connecting, 2
		e.IO.Clear()
		e.Facts, e.Notes = fact.Log{}, nil
	}
	early := why == refusal || why == refusalWanted || why == hindrance || why == ebb
	if early { // the server was about to let it in with the handshake
		p.phase = connecting
		j.own().early = earlyEntry{room: maybe.Of(j.room)}
	}
	before := e.Book.Now().Counts
	turning := e.inRepeats[crew].value + e.inRepeats[crew].by
	depth, tries := s.depth, before.Returns
	got := p.ends(e, ending{cause: why, err: errors.New("reset")})

	want := row.then
	switch {
	case row.routes && crew == 3:
		want = byNextRoute
	case row.returns && (crew == 1 || caughtUp):
		want = comesBack
	case why == closed && at == trial.Close:
		want = goesOn
	}
	if got != want {
		t.Fatalf("then %v, want %v", got, want)
	}
	counts := e.Book.Now().Counts
	// Where the client stands.
	phases := map[next]phase{over: idle, goesOn: offline, byNextRoute: connecting, comesBack: offline}
	if p.phase != phases[got] || j.naming != unnamed || j.room != noRoom ||
		(got == comesBack) != (s.wait == forReturn) || c.Away() != (got == comesBack) {
		t.Errorf("then %v: phase %d, naming %d, room %d, waits for %d, away %v", got, p.phase, j.naming, j.room, s.wait,
			c.Away())
	}
	if j.rare != nil && (j.rare.past != nil || j.rare.early.room.Is()) || c.pulse.beats != nil && c.pulse.heard != 0 {
		t.Errorf("something of the connection is kept: %+v, %+v", *j, c.pulse)
	}
	// Repeats, and the rates that depend on how many are in them.
	kept := int8(0)
	if got == goesOn {
		kept = depth
	}
	if is := e.inRepeats[crew].value + e.inRepeats[crew].by; s.depth != kept || is-turning != int32(kept-depth) {
		t.Errorf("depth %d, of %d; %d of the crew are in repeats, of %d", s.depth, depth, is, turning)
	}
	// Barriers: it waits no longer, or what makes an end of it is told.
	left := false
	for _, n := range e.Notes {
		left = left || n.Kind == fact.WaitsNot || n.Kind == fact.Ended && n.By == 1
	}
	if at == trial.Wait && !away && (got == over || got == byNextRoute) && !left {
		t.Errorf("it is still counted on at the barrier")
	}
	// Rooms.
	rooms := ""
	if row.hangsUp && !(caughtUp && p.phase != idle) && !(caughtUp && !s.ebbing) {
		rooms = "hangs up. "
	}
	switch {
	case caughtUp && away && got != over:
	case caughtUp && got == comesBack:
		rooms += "suspends."
	default:
		if row.announced {
			rooms += "goes. "
		}
		if row.asks {
			rooms += "closes. "
		}
		if early {
			rooms += "withdraws. "
		}
		rooms += "is gone."
	}
	if is := told(e); is != strings.TrimSpace(rooms) {
		t.Errorf("told: %s\nwant: %s", is, rooms)
	}
	if b := p.comeback(); got == goesOn && b != nil && len(b.rooms) > 0 {
		t.Errorf("it would come back to rooms of a connection before: %v", b.rooms)
	}
	// Books.
	if row.count != nil && *row.count(&counts)-*row.count(&before) != one(got == over ||
		row.figure == "returns.broke" &&
			got == comesBack) {
		t.Errorf("%s: %d, before %d; then %v", row.figure, *row.count(&counts), *row.count(&before), got)
	}
	if counts.Finished-before.Finished != one(got == over && row.finished) ||
		counts.Missed-before.Missed != one(row.fails && at == trial.Expect && got != byNextRoute) ||
		counts.Returns.Broke-tries.Broke != one(got == comesBack && !away || got == over &&
			row.figure == "returns.broke") {
		t.Errorf("then %v: finished %d, missed %d, broke %d", got, counts.Finished, counts.Missed, counts.Returns.Broke)
	}
	if d, o := counts.Doubt, before.Doubt; d.Broken-o.Broken != one(why == byServer && got == over) ||
		d.Refused-o.Refused != one(why == refusal && got == over) ||
		d.GaveUp-o.GaveUp != one(why == giveUp || why == ebbAway) {
		t.Errorf("then %v: in doubt are %+v, before %+v", got, d, o)
	}
	if r := counts.Returns; away && r.Broke != r.Back+r.GaveUp+r.StillAway+r.NoTime+one(c.Away()) {
		t.Errorf("the books of returns do not add up: %+v", r)
	}
}

func one(is bool) int64 {
	if is {
		return 1
	}
	return 0
}

// endingsPage is docs/endings.md.
func endingsPage() string {
	yes := func(b bool) string {
		if b {
			return "yes"
		}
		return ""
	}
	page := `# How a connection ends

One function (` + "`ends`, internal/client/path_end.go" + `) ends a client's connection, or its try to have one,
by this table (` + "`exits`" + `), which a test goes through and prints
(` + "`go test ./internal/client -run TestExits -update`" + `). A client that is on its way back is in
the rows that say so, whatever ends the connection; one that is about to go does not come back.

| cause | the client closes the line | an expect that waits is missed | the others should hear ` +
		`| it has asked to leave its rooms | another route | comes back | else | counted, if it is done |
| --- | --- | --- | --- | --- | --- | --- | --- | --- |
`
	for i := range exits {
		r := &exits[i]
		counted := r.figure
		if r.finished {
			counted = strings.TrimPrefix(counted+", clients.finished", ", ")
		}
		page += fmt.Sprintf("| %s | %s | %s | %s | %s | %s | %s | %s | %s |\n", r.what, yes(r.hangsUp), yes(r.fails),
			yes(r.announced), yes(r.asks), yes(r.routes), yes(r.returns), r.then, counted)
	}
	return page + `
In every row: heartbeats are judged up to what was read; what came of a message that did not end is forgotten;
the client reads as fast as it can again; the history that it was to be given is not judged. Who is done, or
begins anew, is out of its repeats (rates are dealt out to the others) and waits at no barrier; who comes back is
counted on at its barrier, and goes past it if the others went on meanwhile. Who comes back and catches up stays
a member of its rooms until it is back or gives up.
`
}

// TestBarrierOpensMeanwhile: a client whose connection broke at a barrier goes past it when it is
// back, if the others went on in the meantime.
func TestBarrierOpensMeanwhile(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	e, c := staged(t, 1, trial.Wait, now)
	at, s := c.script.pc, &c.script
	c.path.ends(e, ending{cause: byServer, err: errors.New("reset")})
	c.Go(e, now, int32(e.Trial.Crews[1].Session.Steps[at].Barrier))
	c.path.phase, c.path.rare.comeback.tries = open, 1
	c.path.comesBack(e)
	if s.pc != at+1 || s.wait == forOthers {
		t.Errorf("it is at step %d and waits for %d; it was at %d", s.pc, s.wait, at)
	}
}

// TestBreaksAgainAtEbb: who is told to go while it is put back, and breaks again, was away.
func TestBreaksAgainAtEbb(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	for name, last := range map[string]func(*Env, *Client){
		"breaks":       func(e *Env, c *Client) { c.path.broken(e, mono.At(now), errors.New("reset")) },
		"the run ends": func(e *Env, c *Client) { c.Cut(e, now) },
	} {
		e, c := staged(t, 1, trial.Expect, now)
		c.path.ends(e, ending{cause: byServer, err: errors.New("reset")})
		c.Tick(e, c.Next())
		c.path.way = &transport.Stream{} // as if it were there again
		c.path.phase, c.script.wait = open, forEntry
		c.Ebb(e, now)
		last(e, c)
		if r := e.counts().Returns; !c.Idle() || r.StillAway+r.NoTime != 1 || e.counts().Broken != 0 {
			t.Errorf("%s: phase %d, %+v, %d broken", name, c.path.phase, r, e.counts().Broken)
		}
	}
}
