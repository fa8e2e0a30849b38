package client

import (
	"bytes"
	"fmt"
	"hash/crc64"
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
)

// watches reports whether a message without a mark may be something that is
// judged: presence, a notice of who enters or leaves, a feed, an encoded
// message.
func (e *Env) watches(payload []byte) bool {
	d := &e.Trial.Dialect
	if d.Heard.Decoded != nil {
		return true
	}
	for _, p := range []*expr.Program{d.Presence.When, d.Joined.When, d.Gone.When, d.Beat.When} {
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
	if d.Presence.When != nil && d.Presence.When.True(s) {
		if n := d.Presence.Members.Eval(s); n.Kind == expr.Number {
			c.tellOfRoom(e, now, d.Presence.Room, fact.Fact{Kind: fact.HearsMembers, Time: e.rel(at),
				Number: uint64(members(n))})
		}
		known = true
	}
	for _, k := range [...]ledger.Kind{ledger.Joined, ledger.Gone} {
		if n := e.notice(k); n.When != nil && n.When.True(s) {
			c.heardNotice(e, at, now, n, k)
			known = true
		}
	}
	for i := range e.Trial.Feeds {
		if f := &e.Trial.Feeds[i]; f.When.True(s) {
			c.reading(e, at, now, int32(i), f)
			known = true
		}
	}
	return known
}

// members gives a number of members as a server tells it; noMembers for what cannot
// be one.
func members(v expr.Value) int {
	if n, ok := v.Int(); ok && n >= 0 && n < 1<<31 {
		return int(n)
	}
	return fact.NoMembers
}

// notice is how the server announces who enters (Joined) or leaves (Gone).
func (e *Env) notice(k ledger.Kind) *trial.Notice {
	if k == ledger.Gone {
		return &e.Trial.Dialect.Gone
	}
	return &e.Trial.Dialect.Joined
}

// announce tells that the server should tell a room's others that the client enters
// or leaves, if that is what it does.
func (c *Client) announce(e *Env, now mono.Time, k ledger.Kind, room ledger.Room) {
	if e.notice(k).When != nil {
		e.tell(now, fact.Fact{Kind: fact.Announces, Client: c.id, Room: room, What: uint8(k)})
	}
}

// announceIn is announce for servers that announce who enters and leaves a room.
func (c *Client) announceIn(e *Env, now mono.Time, k ledger.Kind, room ledger.Room) {
	if e.notice(k).Room != nil {
		c.announce(e, now, k, room)
	}
}

// goes tells, before the client is out of its rooms, that the others should hear
// that it leaves.
func (c *Client) goes(e *Env, now mono.Time) {
	// One that a fault cut off from its server may have been announced long before.
	if e.Trial.Dialect.Gone.When != nil && !c.cutFromServer(e, now) {
		e.tellOf(c, now, fact.Goes, noRoom)
	}
}

// heardNotice tells that the client heard who enters or leaves.
func (c *Client) heardNotice(e *Env, at, now mono.Time, n *trial.Notice, k ledger.Kind) {
	who := n.Who.Eval(&e.scope)
	if who.Kind != expr.String {
		return
	}
	about, known := e.Names.Of(who.Str)
	if !known {
		return // a client of somebody else's
	}
	c.tellOfRoom(e, now, n.Room, fact.Fact{Kind: fact.Hears, Peer: about, What: uint8(k), Time: e.rel(at)})
}

// A pastWatch follows the history that a client is given when it enters.
type pastWatch struct {
	room     ledger.Room
	promised int
	check    int
	count    int
	last     int64 // the number of the last one
	numbered bool
	wrong    string
	judged   bool
}

// watchPast begins to follow a history, if one is promised.
func (c *Client) watchPast(e *Env, now mono.Time, s *trial.Step) {
	if s.History < 0 || e.Trial.Dialect.Past == nil {
		return
	}
	c.optional().past = &pastWatch{room: c.asked, promised: s.History, check: s.Check}
	e.tell(now, fact.Fact{Kind: fact.WantsHistory, Client: c.id, Room: c.asked, Number: uint64(s.History)})
}

// heardPast looks at a message that comes as history, or that holds some.
func (c *Client) heardPast(e *Env, m received, marked bool) {
	if c.more == nil || c.more.past == nil || c.more.past.judged {
		return
	}
	each := e.Trial.Dialect.PastEach
	if each == nil {
		if marked {
			c.onePast(e)
		}
		return
	}
	v := each.Eval(&e.scope)
	if v.Kind != expr.JSON {
		return
	}
	jsonscan.Elements(bytes.Clone(v.Str), func(item []byte) {
		c.read(e, received{text: item, json: item})
		c.onePast(e)
	})
	c.read(e, m) // it may mean something else, too
}

// onePast looks at the one message of a history that is in the scope.
func (c *Client) onePast(e *Env) {
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
	if w.wrong == "" && w.count > w.promised {
		w.wrong = "it is longer than promised"
	}
	if w.wrong == "" { // whether it is too short is known to who knows what was said there
		e.tell(now, fact.Fact{Kind: fact.HasHistory, Client: c.id, Room: noRoom, Check: int16(w.check),
			Number: uint64(w.count)})
	}
	if w.wrong != "" || !w.numbered || e.Trial.Dialect.Heard.Seq == nil {
		c.judgesHistory(e, now, w)
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
	w.wrong = wrong
	c.judgesHistory(e, now, w)
}

// judgesHistory tells what is right or wrong with a history, but for its length.
func (c *Client) judgesHistory(e *Env, now mono.Time, w *pastWatch) {
	f := fact.Fact{Kind: fact.JudgesHistory, Client: c.id, Room: noRoom, Check: int16(w.check), Flags: fact.Good}
	if w.wrong != "" {
		f.Flags = 0
	}
	e.tellText(now, f, []byte(w.wrong))
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
			e.Book.Now().Times[logbook.FeedAge].Record(max(0, age))
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
	x := c.optional()
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
