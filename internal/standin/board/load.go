package board

import (
	"time"

	"tidepull/internal/base/mono"
)

// Load are switches of what goes wrong under load, and when clients come back.
type Load struct {
	CrowdRace    float64
	StallRoom    float64
	SlowStore    time.Duration
	NoReturn     float64
	DoubleReturn float64
	SlowAccept   int
	RudeGoodbye  float64
	Hoard        int
	Crooked      time.Duration
	Dense        time.Duration
	Lenient      float64
	Brittle      float64
	EndlessQueue float64
	BurstLoss    int
	Forgetful    float64
	Standstill   time.Duration
}

// loadList lists these switches.
var loadList = []Switch{
	{"crowd_race", "a client that enters a room within 20 ms of another is told that it is in, and is not",
		func(s *Switches) any { return &s.CrowdRace }},
	{"stall_room", "if above 0: a room waits for its slowest reader", func(s *Switches) any { return &s.StallRoom }},
	{"slow_store", "notices are relayed one after the other, each after a write that takes so long; 0 for none",
		func(s *Switches) any { return &s.SlowStore }},
	{"no_return", "a client that comes back under its name gets no history",
		func(s *Switches) any { return &s.NoReturn }},
	{"double_return", "a client that comes back under its name gets each notice of the history twice",
		func(s *Switches) any { return &s.DoubleReturn }},
	{"slow_accept", "at most so many clients are let in a second, the others wait; 0 for any number",
		func(s *Switches) any { return &s.SlowAccept }},
	{"rude_goodbye", "when the board ends or begins anew, a connection is reset without a close frame",
		func(s *Switches) any { return &s.RudeGoodbye }},
	{"hoard", "so many bytes stay in memory of each client that has gone", func(s *Switches) any { return &s.Hoard }},
	{"crooked", "a notice takes this long for each pair of members of its room",
		func(s *Switches) any { return &s.Crooked }},
	{"dense", "a notice takes this long for each pair of its KB",
		func(s *Switches) any { return &s.Dense }},
	{"lenient", "a client may break the protocol: nothing happens", func(s *Switches) any { return &s.Lenient }},
	{"brittle", "a client that breaks the protocol takes all connections with it",
		func(s *Switches) any { return &s.Brittle }},
	{"endless_queue", "if above 0: what waits for a slow client is kept without bound",
		func(s *Switches) any { return &s.EndlessQueue }},
	{"burst_loss", "of a room's notices within 50 ms only so many are relayed; 0 for all of them",
		func(s *Switches) any { return &s.BurstLoss }},
	{"forgetful", "if above 0: a board with a store begins without what is in it",
		func(s *Switches) any { return &s.Forgetful }},
	{"standstill", "once in 20 s, from the 5th second after the first client on, nothing is relayed for so long; 0 " +
		"for never", func(s *Switches) any { return &s.Standstill }},
}

const (
	// together is how close clients must enter a room for the switch crowd_race to meet them.
	together = 20 * time.Millisecond
	// slowQueue is how many bytes wait for a reader that holds up its room, by stall_room,
	// and lookAgain how long the room waits before it is looked at again.
	slowQueue = 32 << 10
	lookAgain = 20 * time.Millisecond
	// burstWithin is within how long notices are a burst, by burst_loss.
	burstWithin = 50 * time.Millisecond
	// standsEvery is from one standstill to the next, and standsAfter from the first client to
	// the first of them.
	standsEvery = 20 * time.Second
	standsAfter = 5 * time.Second
	// maxReturners bounds the names that the board knows to have been here.
	maxReturners = 1 << 17
)

// races reports whether a client that enters a room now is lost in the crowd.
func (b *Board) races(r *room, id int32) bool {
	s, now := &b.cfg.Switches, b.out.Now()
	last := r.entered
	r.entered = now
	if s.CrowdRace == 0 || last == 0 || now.Sub(last) > together ||
		!s.Meets(s.CrowdRace, "crowd race", b.members[id].name) {
		return false
	}
	b.Truth.Totals.Raced++
	return true
}

// delay is until when a message of so many bytes is held back by what is slow; 0: it is not.
func (b *Board) delay(m relayed, bytes int) (until mono.Time, stalled bool) {
	s := &b.cfg.Switches
	now := b.out.Now()
	if s.SlowStore > 0 && m.room != nil && !m.unbooked {
		b.storeFree = max(b.storeFree, now).Add(s.SlowStore)
		until = b.storeFree
	}
	switch into := now.Sub(b.began.Add(standsAfter)) % standsEvery; {
	case into >= 0 && into < s.Standstill:
		until = max(until, now.Add(s.Standstill-into))
		b.Truth.Totals.Held++
	case s.Standstill > 0 && len(b.held) > 0: // those before it are to be released first
		until = max(until, now)
	}
	if n := 0; s.Crooked > 0 && m.room != nil {
		n = len(m.room.members)
		until = max(until, now.Add(time.Duration(n*n)*s.Crooked))
	}
	if kb := float64(bytes) / 1024; s.Dense > 0 && m.room != nil {
		until = max(until, now.Add(time.Duration(kb*kb*float64(s.Dense))))
	}
	if s.StallRoom > 0 && m.room != nil && b.stalled(m.room) {
		until, stalled = max(until, now.Add(lookAgain)), true
		b.Truth.Totals.Held++
	}
	if m.room != nil { // a room that is slow keeps its order
		if h := b.heldBefore(m); h != nil {
			until, stalled = max(until, h.release), stalled || h.stalled
		}
	}
	return until, stalled
}

// heldBefore is the last message of a room before one that is held back, and not to be overtaken; nil: none is.
func (b *Board) heldBefore(m relayed) (last *heldRelay) {
	for i := range b.held {
		if h := &b.held[i]; h.room == m.room && !h.behind && h.seq < m.seq {
			last = h
		}
	}
	return last
}

// stalled reports whether somebody in a room does not read fast enough.
func (b *Board) stalled(r *room) bool {
	for _, id := range r.members {
		if b.out.Queued(id) > slowQueue {
			return true
		}
	}
	return false
}

// bursts reports whether a notice is one too many.
func (b *Board) bursts(r *room) bool {
	most := b.cfg.Switches.BurstLoss
	if most == 0 {
		return false
	}
	now := b.out.Now()
	if now.Sub(r.burst) > burstWithin {
		r.burst, r.inBurst = now, 0
	}
	r.inBurst++
	return r.inBurst > most
}

// returns reports whether a client has been here under its name before.
func (b *Board) returns(id int32) bool { return b.wasHere[b.members[id].name] }

// leaves remembers that a client has been here.
func (b *Board) leaves(name string) {
	s := &b.cfg.Switches
	if name != "" && s.NoReturn+s.DoubleReturn > 0 && len(b.wasHere) < maxReturners {
		b.wasHere[name] = true
	}
}
