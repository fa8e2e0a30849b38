package client

import (
	"fmt"
	"hash/crc64"
	"math"
	"time"

	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
)

// watches reports whether a message without a mark may be something that is
// judged: presence, a notice of who enters or leaves, a feed, an encoded
// message.
func (e *Env) watches(payload []byte) bool {
	d := &e.Trial.Dialect
	if d.Heard.Decoded != nil {
		return true
	}
	for _, p := range []*expr.Program{d.Presence.When, d.Joined.When, d.Gone.When} {
		if p != nil && p.MayHold(payload) {
			return true
		}
	}
	for i := range e.Trial.Feeds {
		if e.Trial.Feeds[i].When.MayHold(payload) {
			return true
		}
	}
	return false
}

// watch judges the message in the scope, and reports whether a rule of the
// dialect is about it.
func (c *Client) watch(e *Env, at, now mono.Time) (known bool) {
	d, s := &e.Trial.Dialect, &e.scope
	c.firstLive(e, now)
	known = true
	switch {
	case d.Presence.When != nil && d.Presence.When.True(s):
		n := d.Presence.Members.Eval(s)
		if room, ok := e.roomIn(d.Presence.Room); ok && n.Kind == expr.Number {
			e.Ledger.MembersSaid(c.id, room, members(n), at)
		}
	case d.Joined.When != nil && d.Joined.When.True(s):
		c.heardNotice(e, at, now, &d.Joined, ledger.Joined)
	case d.Gone.When != nil && d.Gone.When.True(s):
		c.heardNotice(e, at, now, &d.Gone, ledger.Gone)
	default:
		known = false
	}
	for i := range e.Trial.Feeds {
		if f := &e.Trial.Feeds[i]; f.When.True(s) {
			c.reading(e, at, now, int32(i), f)
			known = true
		}
	}
	return known
}

// members gives a number of members as a server tells it; -1 for what cannot be
// one.
func members(v expr.Value) int {
	if n, ok := v.Int(); ok && n >= 0 && n < 1<<31 {
		return int(n)
	}
	return -1
}

// roomIn gives the room that a program names.
func (e *Env) roomIn(p *expr.Program) (ledger.Room, bool) {
	v := p.Eval(&e.scope)
	if v.Kind != expr.String {
		return noRoom, false
	}
	return e.Ledger.RoomNamed(v.Str)
}

// announce books that the server should tell a room's others that the client
// enters or leaves.
func (c *Client) announce(e *Env, now mono.Time, k ledger.Kind, room ledger.Room) {
	n := &e.Trial.Dialect.Joined
	if k == ledger.Gone {
		n = &e.Trial.Dialect.Gone
	}
	if n.When == nil {
		return
	}
	number := e.Ledger.Say(ledger.Say{Kind: k, Audience: ledger.ToOthers, Room: room, Sender: c.id, Due: now, Sent: now,
		Sheet: &e.Book.At(now).Sheet})
	if k == ledger.Joined {
		c.extra().joined = maybe.Of(number)
		return
	}
	e.provedTrue(room, c.id, number)
}

// unannounce takes back that the client enters.
func (c *Client) unannounce(e *Env) {
	if c.more == nil {
		return
	}
	if number, ok := c.more.joined.Get(); ok {
		e.Ledger.Cancel(number)
		c.more.joined = maybe.Index[uint64]{}
	}
}

// gone books, before the client is out of its rooms, that the others should
// hear that it leaves.
func (c *Client) gone(e *Env, now mono.Time) {
	if e.Trial.Dialect.Gone.When == nil {
		return
	}
	e.Ledger.Inside(c.id, func(r ledger.Room) {
		if r == ledger.Everyone {
			return
		}
		e.Ledger.Quit(c.id, r, now)
		c.announce(e, now, ledger.Gone, r)
	})
}

// heardNotice books that the client heard who enters or leaves.
func (c *Client) heardNotice(e *Env, at, now mono.Time, n *trial.Notice, k ledger.Kind) {
	room, ok := e.roomIn(n.Room)
	who := n.Who.Eval(&e.scope)
	if !ok || who.Kind != expr.String {
		return
	}
	about, known := e.byName[string(who.Str)]
	if !known {
		return // a client of somebody else's
	}
	number, open := e.Ledger.Announced(k, room, about)
	for _, other := range e.sharers[string(who.Str)] {
		if !open {
			about = other
			number, open = e.Ledger.Announced(k, room, about)
		}
	}
	if !open {
		c.unfounded(e, rumour{kind: k, room: room, about: about, to: c.id, crew: c.crew, at: at}, now)
		return
	}
	e.arrival(c.id, c.crew, ledger.Arrival{To: c.id,
		Mark: mark.Mark{Run: e.Run, Room: uint32(room), Sender: uint32(about), Number: number}, At: at,
		Sheet: &e.Book.Now().Sheet}, 0)
}

// A pastWatch follows the history that a client is given when it enters.
type pastWatch struct {
	room     ledger.Room
	promised int
	least    int // what must come: what was surely said there before
	check    int
	count    int
	last     int64 // the number of the last one
	numbered bool
	wrong    string
	judged   bool
}

// watchPast begins to follow a history, if one is promised.
func (c *Client) watchPast(e *Env, s *trial.Step) {
	if s.History < 0 || e.Trial.Dialect.Past == nil {
		return
	}
	c.extra().past = &pastWatch{room: c.asked, promised: s.History, least: min(s.History, e.Ledger.Spoken(c.asked)),
		check: s.Check}
}

// heardPast looks at a message that comes as history.
func (c *Client) heardPast(e *Env) {
	if c.more == nil || c.more.past == nil || c.more.past.judged {
		return
	}
	w := c.more.past
	w.count++
	if e.Trial.Dialect.PastSeq == nil {
		return
	}
	seq, whole := e.Trial.Dialect.PastSeq.Eval(&e.scope).Int()
	switch {
	case w.wrong != "": // the first thing counts
	case !whole:
		w.wrong = "a message of it has no whole number"
	case w.numbered && seq == w.last:
		w.wrong = "one message came twice in it"
	case w.numbered && seq < w.last:
		w.wrong = "it is out of order"
	case w.numbered && seq > w.last+1:
		w.wrong = "there is a gap in it"
	}
	w.last, w.numbered = seq, true
}

// judgePast judges the history once the entry is confirmed. How it joins what
// is said from then on is judged with the first live message.
func (c *Client) judgePast(e *Env, now mono.Time) {
	if c.more == nil || c.more.past == nil {
		return
	}
	w := c.more.past
	w.judged = true
	switch {
	case w.wrong != "":
	case w.count < w.least:
		w.wrong = "it is shorter than promised"
	case w.count > w.promised:
		w.wrong = "it is longer than promised"
	}
	if w.wrong != "" {
		e.check(c, now, w.check, false, w.wrong)
	}
	if w.wrong != "" || !w.numbered || e.Trial.Dialect.Heard.Seq == nil {
		if w.wrong == "" {
			e.check(c, now, w.check, true, "")
		}
		c.more.past = nil
	}
}

// firstLive judges whether the first live message continues the history.
func (c *Client) firstLive(e *Env, now mono.Time) {
	h := &e.Trial.Dialect.Heard
	if c.more == nil || c.more.past == nil || h.Seq == nil || h.When == nil || !h.When.True(&e.scope) {
		return
	}
	w := c.more.past
	if room, ok := e.roomIn(h.Room); !ok || room != w.room || !w.numbered {
		return
	}
	wrong := ""
	seq, whole := h.Seq.Eval(&e.scope).Int()
	switch {
	case !whole:
		wrong = "the first live message has no whole number"
	case seq > w.last+1:
		wrong = "there is a gap between it and the live messages"
	case seq < w.last+1:
		wrong = "it overlaps with the live messages"
	}
	if !w.judged {
		w.wrong, w.last = wrong, seq // judged together with the rest
		return
	}
	e.check(c, now, w.check, wrong == "", wrong)
	c.more.past = nil
}

// A feedKey is one numbered part of a feed.
type feedKey struct {
	feed int32
	key  uint64
}

// maxKeys bounds the parts of feeds that one client follows.
const maxKeys = 4096

// maxGap is the most numbers that one reading can show to be missing: a server
// that jumps ahead is wrong once, not a million million times.
const maxGap = 1_000_000

// unjudged stands for what is wrong with a reading that could not be judged.
const unjudged = "not judged"

// ageOf is how old a reading was when it came, by the time in it (milliseconds
// since 1970) and the time of its arrival (microseconds since 1970).
func ageOf(v expr.Value, at int64) (age time.Duration, wrong string) {
	const farOff = 366 * 24 * time.Hour
	switch ahead := v.Num*1000 - float64(at); {
	case v.Kind != expr.Number:
		return 0, "it has no time"
	case math.Abs(ahead)*1000 > 10*float64(farOff) || math.IsNaN(ahead):
		return 0, "its time is not in milliseconds since 1970"
	case ahead*1000 > float64(fromFuture):
		return 0, "it is from the future"
	default:
		return -time.Duration(ahead) * time.Microsecond, ""
	}
}

// fromFuture is how far ahead a server's clock may be.
const fromFuture = time.Minute

// reading judges something that the server pushed by itself.
func (c *Client) reading(e *Env, at, now mono.Time, i int32, f *trial.Feed) {
	s, n := &e.scope, e.counts()
	n.Readings++
	wrong := ""
	if f.Time != nil {
		age, why := ageOf(f.Time.Eval(s), e.wall(at))
		switch wrong = why; {
		case why != "":
		case f.Fresh > 0 && age > f.Fresh:
			n.Stale++
			wrong = "it is too old"
			fallthrough
		default:
			e.Book.Now().Age.Record(max(0, age))
		}
	}
	if f.Seq != nil {
		if why := c.follow(e, i, f); why != "" {
			wrong = why
		}
	}
	if wrong != unjudged {
		e.check(c, now, f.Check, wrong == "", wrong)
	}
}

// follow compares a reading's number with the last one of its part.
func (c *Client) follow(e *Env, i int32, f *trial.Feed) (wrong string) {
	s, n := &e.scope, e.counts()
	key := uint64(0)
	if f.Key != nil {
		v := f.Key.Eval(s)
		e.short = v.Append(e.short[:0])
		key = crc64.Update(1, table, e.short)
	}
	seq, ok := f.Seq.Eval(s).Int()
	if !ok {
		return "it has no whole number"
	}
	x := c.extra()
	last, known := x.feeds[feedKey{i, key}]
	switch {
	case !known && len(x.feeds) >= maxKeys:
		e.countReason("not judged", fmt.Errorf("feed %s has more than %d keys at one client", f.Name, maxKeys))
		return unjudged
	case !known:
		if x.feeds == nil {
			x.feeds = map[feedKey]int64{}
		}
	case seq == last:
		n.Repeats++
		wrong = "it came twice"
	case seq < last:
		n.Backward++
		return "it came after a later one"
	case seq > last+1:
		n.Gaps += min(seq-last-1, maxGap)
		wrong = "some before it are missing"
	}
	x.feeds[feedKey{i, key}] = seq
	return wrong
}
