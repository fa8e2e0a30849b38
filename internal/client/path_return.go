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

// A comeback is what a client has if its crew comes back when connections break. Where
// its script was is kept; meanwhile it follows a short one: connect, enter the rooms that it
// was in, go on.
type comeback struct {
	connect  int32         // the connect step that it came by
	rooms    []ledger.Room // that it is in, in the order in which it entered them
	active   bool          // it is under way: broke is set
	broke    mono.Time     // when its connection was found broken
	came     mono.Span     // and when that was, as far as it is known
	opened   bool          // it was connected again, since then
	tries    int           // since then
	wait     time.Duration // before the last of them
	restarts int           // how often the server has said that it goes away, or restarts
	byName   bool          // the server would not resume: it says its name and enters its rooms
	held                   // where its script was
	room     ledger.Room
}

// returns is the client's comeback; nil if its crew does not come back.
func (p *path) returns(e *Env) *comeback {
	if p.policy(e) == nil {
		return nil
	}
	x := p.own()
	if x.comeback == nil {
		x.comeback = &comeback{}
	}
	return x.comeback
}

// comesByName has the client come back by its name, as the server does not know it any more.
func (p *path) comesByName() { p.rare.comeback.byName = true }

// away reports whether the client's connection broke, and it is on its way back.
func (p *path) away() bool {
	b := p.comeback()
	return b != nil && b.active
}

// policy is how the client comes back; nil if it does not.
func (p *path) policy(e *Env) *trial.Return { return e.Trial.Crews[e.c.crew].Return }

// keepsRoom remembers that the client is in a room, or is not, for when it comes back.
func (p *path) keepsRoom(e *Env, room ledger.Room, in bool) {
	b := p.returns(e)
	if b == nil || b.active {
		return
	}
	b.rooms = slices.DeleteFunc(b.rooms, func(r ledger.Room) bool { return r == room })
	if in {
		b.rooms = append(b.rooms, room)
	}
}

// comeback is what the client remembers for coming back; nil if nothing.
func (p *path) comeback() *comeback {
	if p.rare == nil {
		return nil
	}
	return p.rare.comeback
}

// goesAway begins to be on the way back: where the session is now it goes on later.
func (p *path) goesAway(e *Env, x ending) {
	e.counts().Returns.Broke++
	e.event(logbook.Broke, noRoom, e.countReason("broken", x.err)+p.quietFor(e))
	if x.came.To == 0 { // the client ended it itself, or a fault of the trial
		x.came = mono.At(e.now)
	}
	if p.policy(e).Anew {
		e.script.giveUpBarrier(e) // it will come to it again
	}
	b := p.returns(e)
	*b = comeback{connect: b.connect, rooms: b.rooms, restarts: b.restarts, active: true, broke: e.now, came: x.came,
		room: e.judge.in(), held: e.script.hold(e)}
	e.judge.breaks()
}

// countsUnprovoked counts a break that the trial has not caused: that the client comes back is no excuse
// for it. A server that sends its clients on to another node has said so; one that restarts says so as
// well, and may once on each of its nodes.
func (p *path) countsUnprovoked(e *Env, x ending) {
	if x.cause != byServer || e.isFaulted() {
		return
	}
	var closed *transport.ServerClosed
	if errors.As(x.err, &closed) {
		switch b := p.rare.comeback; closed.Code {
		case ws.CloseGoingAway, ws.CloseServiceRestart, ws.CloseTryAgainLater:
			if b.restarts++; b.restarts <= max(1, len(e.Trial.Target.Nodes)) {
				return
			}
		}
		if slices.Contains(p.policy(e).Elsewhere, closed.Code) {
			return
		}
	}
	e.counts().Returns.Unprovoked++
	e.doubts(e.closedInDoubt()).Unprovoked++
	e.trouble()
}

// passes takes a client that is on its way back past the barrier that its script is held at, if it is
// that one.
func (p *path) passes(e *Env, barrier int32) bool {
	b, steps := p.rare.comeback, e.Trial.Crews[e.c.crew].Session.Steps
	if b.held.wait != forOthers || int32(steps[b.pc].Barrier) != barrier {
		return false
	}
	b.pc, b.held.wait = b.pc+1, forNothing
	return true
}

// owedAllAlong reports whether the client is on its way back, and has been a member of its
// rooms for the ledger in the meantime.
func (p *path) owedAllAlong(e *Env) bool {
	return p.away() && p.policy(e).CatchUp
}

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
func (p *path) triesLater(e *Env, least time.Duration, err error) {
	policy, b := p.policy(e), p.rare.comeback
	enough, why := error(nil), staysAway(policy, err)
	switch {
	case why != "":
		enough = errors.New(why)
	case policy.Tries > 0 && b.tries >= policy.Tries:
		enough = fmt.Errorf("after %d tries: %w", b.tries, err)
	case policy.Budget > 0 && e.now.Sub(b.broke) >= policy.Budget:
		enough = fmt.Errorf("after %v: %w", policy.Budget, err)
	}
	if enough != nil {
		p.ends(e, ending{cause: giveUp, err: enough})
		return
	}
	var closed *transport.ServerClosed
	if errors.As(err, &closed) && slices.Contains(policy.Elsewhere, closed.Code) {
		p.rare.elsewhere++
	}
	b.wait = max(policy.Wait(b.tries, b.wait, e.fraction()), least)
	e.script.follow(e, p.wayBack(e), b.wait)
}

// wayBack is the script by which a client comes back.
func (p *path) wayBack(e *Env) *trial.Session {
	policy, b := p.policy(e), p.rare.comeback
	connect := e.Trial.Crews[e.c.crew].Session.Steps[b.connect]
	connect.Within = policy.Within
	s := &trial.Session{Steps: []trial.Step{connect}}
	switch {
	case policy.Resume != nil && !b.byName:
		dial := trial.Dial{}
		if connect.Dial != nil {
			dial = *connect.Dial
		}
		dial.Nameless = true // who it is follows from what it says now
		s.Steps[0].Dial = &dial
		s.Steps = append(s.Steps, trial.Step{Do: trial.Send, Body: policy.Resume, Binary: e.Trial.Dialect.Binary,
			Check: trial.NoCheck})
		if policy.Resumed != nil {
			s.Steps = append(s.Steps, trial.Step{Do: trial.Expect, When: policy.Resumed, Within: policy.Within,
				Label: "resumed", Check: trial.NoCheck})
		}
	case !policy.Anew:
		for _, r := range b.rooms {
			room := &expr.Template{}
			room.Text(string(e.roomName(r)))
			s.Steps = append(s.Steps, trial.Step{Do: trial.Enter, Room: room, Within: policy.Within, History: -1,
				Check: trial.NoCheck})
		}
	}
	s.Steps = append(s.Steps, trial.Step{Do: trial.Back, Check: trial.NoCheck})
	return s
}

// setsOutAgain tries to come back.
func (p *path) setsOutAgain(e *Env) {
	p.rare.comeback.tries++
	e.counts().Returns.Tries++
	e.script.catchUp(e)
	e.script.run(e)
}

// countsTry counts that a try to come back came to nothing, and says how long the server wants
// the client to wait before the next.
func (p *path) countsTry(e *Env, row *exit, err error) (least time.Duration) {
	if row == &exits[returnHindered] { // it is no try if nothing went out
		return 0
	}
	counts := &e.counts().Returns
	var refusal *ws.Refusal
	var timeout *transport.NotInTime
	switch {
	case errors.As(err, &refusal):
		counts.Refused++
		if p.policy(e).Obey {
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
func (p *path) isConnectedAgain(e *Env, at mono.Time) {
	if b := p.rare.comeback; !b.opened {
		b.opened = true
		e.Book.Now().Between(logbook.ToReconnect, at.Sub(b.came.To), at.Sub(b.came.From))
	}
	e.counts().Returns.Accepted++
}

// comesBack handles that a client has come back: it goes on where its script was, as if the
// time in between had not been.
func (p *path) comesBack(e *Env) {
	b := p.rare.comeback
	policy := p.policy(e)
	e.counts().Returns.Back++
	e.Book.Now().Between(logbook.ToReturn, e.now.Sub(b.came.To), e.now.Sub(b.came.From))
	e.event(logbook.CameBack, noRoom, "")
	if policy.CatchUp {
		e.tellOf(fact.Resumes, noRoom)
	} else if policy.Resume != nil && !b.byName {
		e.judge.isPutBack(e, b.rooms)
	}
	b.active = false
	session := e.Trial.Crews[e.c.crew].Session
	if policy.Anew {
		b.rooms = nil
		e.script.beginAgain(e, session, b.connect)
		return
	}
	e.judge.returnsTo(b.room)
	e.script.goOn(e, session, b.held, e.now.Sub(b.broke))
	if e.script.isEbbing() && !p.is(idle) { // it was to go meanwhile
		e.c.ebb(e)
	}
}

// countsAway counts a client that is still away when it is to go. If none of its tries has
// failed yet, it had no time to come back, and nobody is to blame.
func (p *path) countsAway(e *Env) {
	failed := p.rare.comeback.tries
	if p.phase == connecting {
		failed--
	}
	if failed <= 0 {
		e.counts().Returns.NoTime++
		return
	}
	e.counts().Returns.StillAway++
	e.doubts(e.inDoubt(p.rare.comeback.broke)).GaveUp++
	e.countReason("gave up", errors.New("still away when the tide fell"))
}
