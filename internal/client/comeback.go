package client

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// A comeback is what a client has whose crew comes back when its connection breaks. Where
// its script was is kept; meanwhile it follows a short one: connect, enter the rooms that it
// was in, go on.
type comeback struct {
	connect int32         // the connect step that it came by
	rooms   []ledger.Room // that it is in, in the order in which it entered them
	active  bool          // it is under way: broke is set
	broke   mono.Time     // when its connection was found broken
	opened  bool          // it was connected again, since then
	tries   int           // since then
	wait    time.Duration // before the last of them
	byName  bool          // the server would not resume: it says its name and enters its rooms
	// where its script was
	pc    int32
	depth int8
	step  wait
	until mono.Time
	room  ledger.Room
}

// returns is the client's comeback; nil if its crew does not come back.
func (c *Client) returns(e *Env) *comeback {
	if c.policy(e) == nil {
		return nil
	}
	x := c.optional()
	if x.comeback == nil {
		x.comeback = &comeback{}
	}
	return x.comeback
}

// Away reports whether the client's connection broke, and it is on its way back.
func (c *Client) Away() bool {
	return c.more != nil && c.more.comeback != nil && c.more.comeback.active
}

// policy is how the client comes back; nil if it does not.
func (c *Client) policy(e *Env) *trial.Return { return e.Trial.Crews[c.crew].Return }

// keepsRoom remembers that the client is in a room, or is not, for when it comes back.
func (c *Client) keepsRoom(e *Env, room ledger.Room, in bool) {
	b := c.returns(e)
	if b == nil || b.active {
		return
	}
	b.rooms = slices.DeleteFunc(b.rooms, func(r ledger.Room) bool { return r == room })
	if in {
		b.rooms = append(b.rooms, room)
	}
}

// comeback is what the client remembers for coming back; nil if nothing.
func (c *Client) comeback() *comeback {
	if c.more == nil {
		return nil
	}
	return c.more.comeback
}

// goesAway begins to be on the way back: where the session is now it goes on later.
func (c *Client) goesAway(e *Env, now mono.Time, err error) {
	e.counts().Returns.Broke++
	e.event(c, now, logbook.Broke, noRoom, e.countReason("broken", err))
	b := c.returns(e)
	*b = comeback{connect: b.connect, rooms: b.rooms, active: true, broke: now, pc: c.pc, depth: c.depth, step: c.wait,
		until: c.deadline, room: c.room}
	if c.wait == forOthers && c.policy(e).Anew {
		e.note(c, now, fact.WaitsNot, 0, 0) // it will come to the barrier again
	}
	e.repeatsChange(c, now, -int32(c.depth))
	c.depth, c.more.before = 0, c.more.last
}

// owedAllAlong reports whether the client is on its way back, and has been a member of its
// rooms for the ledger in the meantime.
func (c *Client) owedAllAlong(e *Env) bool {
	return c.Away() && c.policy(e).CatchUp
}

// CutOff breaks the client's connection, as a fault of the trial's does; it stays away for so
// long at least.
func (c *Client) CutOff(e *Env, now mono.Time, fault string, least time.Duration, reset bool) {
	e.at(c, now)
	if c.phase != open || c.ebbing || c.Away() {
		return
	}
	c.ends(e, now, ending{cause: byCut, err: fmt.Errorf("cut by the fault '%s'", fault), least: least, reset: reset})
}

// ID is the client's number in the run.
func (c *Client) ID() ledger.Client { return c.id }

// staysAway says why a client does not come back after its connection ended so; "" if it
// does.
func staysAway(p *trial.Return, err error) string {
	var closed *transport.ServerClosed
	if errors.As(err, &closed) && slices.Contains(p.NotAfter, closed.Code) {
		return fmt.Sprintf("the server closed with code %d, after which its clients do not come back", closed.Code)
	}
	return ""
}

// triesLater arranges for the next try, after what the policy says, or what the server
// wants.
func (c *Client) triesLater(e *Env, now mono.Time, least time.Duration, err error) {
	p, b := c.policy(e), c.more.comeback
	enough, why := error(nil), staysAway(p, err)
	switch {
	case why != "":
		enough = errors.New(why)
	case p.Tries > 0 && b.tries >= p.Tries:
		enough = fmt.Errorf("after %d tries: %w", b.tries, err)
	case p.Budget > 0 && now.Sub(b.broke) >= p.Budget:
		enough = fmt.Errorf("after %v: %w", p.Budget, err)
	}
	if enough != nil {
		c.ends(e, now, ending{cause: giveUp, err: enough})
		return
	}
	if closed := (*transport.ServerClosed)(nil); errors.As(err, &closed) && slices.Contains(p.Elsewhere, closed.Code) {
		c.more.elsewhere++
	}
	b.wait = max(p.Wait(b.tries, b.wait, c.fraction()), least)
	c.session = c.wayBack(e)
	c.pc, c.depth = 0, 0
	c.wait, c.began, c.deadline = forReturn, now, now.Add(b.wait)
}

// wayBack is the script by which a client comes back.
func (c *Client) wayBack(e *Env) *trial.Session {
	p, b := c.policy(e), c.more.comeback
	connect := e.Trial.Crews[c.crew].Session.Steps[b.connect]
	connect.Within = p.Within
	s := &trial.Session{Steps: []trial.Step{connect}}
	switch {
	case p.Resume != nil && !b.byName:
		dial := trial.Dial{}
		if connect.Dial != nil {
			dial = *connect.Dial
		}
		dial.Nameless = true // who it is follows from what it says now
		s.Steps[0].Dial = &dial
		s.Steps = append(s.Steps, trial.Step{Do: trial.Send, Body: p.Resume, Binary: e.Trial.Dialect.Binary,
			Check: trial.NoCheck})
		if p.Resumed != nil {
			s.Steps = append(s.Steps, trial.Step{Do: trial.Expect, When: p.Resumed, Within: p.Within,
				Label: "resumed", Check: trial.NoCheck})
		}
	case !p.Anew:
		for _, r := range b.rooms {
			room := &expr.Template{}
			room.Text(string(e.roomName(r)))
			s.Steps = append(s.Steps, trial.Step{Do: trial.Enter, Room: room, Within: p.Within, History: -1,
				Check: trial.NoCheck})
		}
	}
	s.Steps = append(s.Steps, trial.Step{Do: trial.Back, Check: trial.NoCheck})
	return s
}

// setsOutAgain tries to come back.
func (c *Client) setsOutAgain(e *Env, now mono.Time) {
	c.more.comeback.tries++
	e.counts().Returns.Tries++
	c.clock = max(c.clock, now)
	c.run(e, now)
}

// countsTry counts that a try to come back came to nothing, and says how long the server wants
// the client to wait before the next.
func (c *Client) countsTry(e *Env, row *exit, err error) (least time.Duration) {
	if row == &exits[returnHindered] { // it is no try if nothing went out
		return 0
	}
	counts := &e.counts().Returns
	var refusal *ws.Refusal
	var timeout *transport.NotInTime
	switch {
	case errors.As(err, &refusal):
		counts.Refused++
		if c.policy(e).Obey {
			least = refusal.After
		}
	case errors.As(err, &timeout):
		counts.TimedOut++
	default:
		counts.Failed++
	}
	e.countReason("did not come back at once", err)
	return least
}

// isConnectedAgain notes that the connection is there again.
func (c *Client) isConnectedAgain(e *Env, at mono.Time) {
	if b := c.more.comeback; !b.opened {
		b.opened = true
		e.Book.Now().Times[logbook.ToReconnect].Record(max(0, at.Sub(b.broke)))
	}
	e.counts().Returns.Accepted++
}

// isBack handles that a client has come back: it goes on where its script was, as if the
// time in between had not been.
func (c *Client) isBack(e *Env, now mono.Time) {
	b := c.more.comeback
	p := c.policy(e)
	e.counts().Returns.Back++
	e.Book.Now().Times[logbook.ToReturn].Record(now.Sub(b.broke))
	e.event(c, now, logbook.CameBack, noRoom, "")
	if p.CatchUp {
		e.tellOf(c, now, fact.Resumes, noRoom)
	} else if p.Resume != nil && !b.byName {
		c.isPutBack(e, now, b.rooms)
	}
	b.active = false
	c.session = e.Trial.Crews[c.crew].Session
	c.clock = max(c.clock, now)
	if p.Anew {
		b.rooms, c.depth, c.pc = nil, 0, b.connect+1
		c.run(e, now)
		return
	}
	c.pc, c.depth, c.room = b.pc, b.depth, b.room
	e.repeatsChange(c, now, int32(c.depth))
	for i := range c.depth {
		c.iterations[i].start = c.iterations[i].start.Add(now.Sub(b.broke))
	}
	switch b.step {
	case forTime:
		c.wait, c.began, c.deadline = forTime, now, max(now, b.until)
		if c.depth > 0 {
			c.deadline = max(now, b.until.Add(now.Sub(b.broke)))
		}
	case forOthers:
		c.wait, c.began, c.deadline = forOthers, now, max(now, b.until)
	case forExpected, forLeave, forAnswer, forFigures:
		c.pc++ // it is not waited for any more
		c.run(e, now)
	default:
		c.run(e, now)
	}
	if c.ebbing {
		c.ebbing = false
		c.Ebb(e, now)
	}
}

// isPutBack tells that the server has put a client back into its rooms by itself.
func (c *Client) isPutBack(e *Env, now mono.Time, rooms []ledger.Room) {
	for _, r := range append([]ledger.Room{ledger.Everyone}, rooms...) {
		e.tellOf(c, now, fact.Asks, r)
		e.tellOf(c, now, fact.Enters, r)
		if r != ledger.Everyone {
			c.isIn(e, now, r)
		}
	}
	c.naming = nameConfirmed
}

// countsAway counts a client that is still away when it is to go. If none of its tries has
// failed yet, it had no time to come back, and nobody is to blame.
func (c *Client) countsAway(e *Env, now mono.Time) {
	failed := c.more.comeback.tries
	if c.phase == connecting {
		failed--
	}
	if failed <= 0 {
		e.counts().Returns.NoTime++
		return
	}
	e.counts().Returns.StillAway++
	e.doubts(e.inDoubt(c.more.comeback.broke, now)).GaveUp++
	e.countReason("gave up", errors.New("still away when the tide fell"))
}
