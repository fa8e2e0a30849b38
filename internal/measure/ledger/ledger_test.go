package ledger

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/mark"
)

const ms = mono.Time(time.Millisecond)

// The model keeps everything for ever and answers by searching through it.
type modelMessage struct {
	say     Say
	owed    map[Client]bool
	came    map[Client]int
	past    map[Client]bool
	cameAt  map[Client]mono.Time
	tally   map[uint16]*Tally
	first   []time.Duration
	firstAt mono.Time
}

type model struct {
	crews    []uint16
	asked    map[[2]int32]mono.Time // open stay of a client in a room
	last     map[[2]int32]mono.Time // when the last stay began
	still    map[[2]int32]bool      // it was inside when it asked
	entered  map[[2]int32]mono.Time // when the last stay was confirmed; Never or none: it was not
	member   map[[2]int32]bool
	ceased   map[[2]int32][][2]mono.Time // when, and when the connection had broken before: Never
	over     map[[2]int32][]mono.Time
	newest   map[[2]int32]mono.Time // when the newest of what it got live in a room was said
	messages []*modelMessage
	away     map[Client]*[2]mono.Time // since and until
	claims   []modelClaim
	overdue  int64
	past     int64
}

// A modelClaim is a delivery that is owed to a client when it is back.
type modelClaim struct {
	msg *modelMessage
	to  Client
}

// missed reports whether a client may have missed what was sent at an instant.
func (m *model) missed(c Client, sent mono.Time) bool {
	return m.away[c] != nil && sent <= m.away[c][1]
}

// judgeClaims ends the claims of those who have been back for long enough; those
// of one who goes for good are excused.
func (m *model) judgeClaims(now mono.Time, grace time.Duration, gone Client) {
	m.claims = slices.DeleteFunc(m.claims, func(k modelClaim) bool {
		until, t := m.away[k.to][1], k.msg.tally[m.crews[k.to]]
		switch {
		case k.to == gone && until == mono.Never:
			t.Excused++
		case until != mono.Never && until.Add(grace) <= now:
			left := mono.Never
			for _, in := range m.ceased[[2]int32{k.to, k.msg.say.Room}] {
				if in[0] >= k.msg.say.Sent {
					left = min(left, in[0])
				}
			}
			if left <= until.Add(grace) {
				t.Excused++
			} else {
				t.Lost++
			}
		default:
			return false
		}
		return true
	})
}

// catchUp takes an arrival that is claimed.
func (m *model) catchUp(msg *modelMessage, to Client) bool {
	i := slices.IndexFunc(m.claims, func(k modelClaim) bool { return k.msg == msg && k.to == to })
	if i < 0 {
		return false
	}
	m.claims = slices.Delete(m.claims, i, i+1)
	msg.tally[m.crews[to]].CaughtUp++
	return true
}

func (m *model) say(s Say) {
	msg := &modelMessage{say: s, owed: map[Client]bool{}, came: map[Client]int{}, past: map[Client]bool{},
		cameAt: map[Client]mono.Time{}, tally: map[uint16]*Tally{}}
	for c := range m.crews {
		msg.tally[m.crews[c]] = &Tally{}
	}
	for c := range m.crews {
		c := Client(c)
		in := m.member[[2]int32{c, s.Room}]
		switch s.Audience {
		case ToRoom:
			msg.owed[c] = in
		case ToOthers:
			msg.owed[c] = in && c != s.Sender
		case ToMember:
			msg.owed[c] = in && c == s.To
		case ToSender:
			msg.owed[c] = in && c == s.Sender
		}
		if msg.owed[c] {
			msg.tally[m.crews[c]].Owed++
		}
	}
	msg.tally[m.crews[s.Sender]].Said++
	m.messages = append(m.messages, msg)
}

func (m *model) arrive(n int, to Client, at mono.Time, past bool, cfg Config) {
	msg := m.messages[n]
	key := [2]int32{to, msg.say.Room}
	t := msg.tally[m.crews[to]]
	_, inside := m.asked[key]
	latency := max(0, at.Sub(msg.say.Due))
	edge := inside || slices.ContainsFunc(m.over[key], func(o mono.Time) bool { return o >= msg.say.Sent })
	switch {
	case past:
		since := m.last[key]
		again := msg.past[to] && msg.say.Sent >= since
		if m.still[key] { // until it was confirmed it got what was said live, and then all of it as history
			if since = mono.Never; m.entered[key] > m.last[key] {
				since = m.entered[key]
			}
		}
		if msg.came[to] > 0 {
			again = again || msg.owed[to] && msg.cameAt[to] >= since || !msg.owed[to] && msg.say.Sent >= since
		}
		if a := m.away[to]; a != nil && a[1] >= 0 && msg.say.Sent <= a[0] {
			again = false // who comes back is given what it had before, too
		}
		msg.past[to] = true
		switch {
		case again:
			t.Duplicate++
			return
		case !(msg.owed[to] && msg.came[to] == 0 && m.missed(to, msg.say.Sent)):
			t.Past++
			return
		}
		t.CaughtUp++
	case msg.came[to] > 0 || msg.past[to] && !msg.owed[to]:
		t.Duplicate++
	case msg.owed[to] && m.missed(to, msg.say.Sent):
		t.CaughtUp++
	case msg.owed[to]:
		if t.Delivered++; latency > cfg.Prompt {
			t.Delivered, t.Late = t.Delivered-1, t.Late+1
		}
		key := [2]int32{to, msg.say.Room}
		m.newest[key] = max(m.newest[key], msg.say.Sent)
	case (msg.say.Audience == ToRoom || msg.say.Audience == ToOthers && to != msg.say.Sender ||
		msg.say.Audience == ToMember && to == msg.say.To || msg.say.Audience == ToSender && to == msg.say.Sender) &&
		edge:
		t.Allowed++
	default:
		t.Stray++
	}
	if msg.owed[to] && msg.came[to] == 0 && !m.missed(to, msg.say.Sent) {
		if len(msg.first) == 0 || at < msg.firstAt {
			msg.firstAt = at
		}
		msg.first = append(msg.first, latency.Truncate(tick))
	}
	if msg.came[to] == 0 {
		msg.cameAt[to] = max(at, msg.say.Due)
		if msg.owed[to] && m.missed(to, msg.say.Sent) {
			msg.cameAt[to] = msg.say.Sent // when it was caught up on is not known
		}
	}
	msg.came[to]++
}

func (m *model) settle(from, to int, prompt, grace time.Duration) {
	for _, msg := range m.messages[from:to] {
		for c, owed := range msg.owed {
			if !owed || msg.came[c] > 0 {
				continue
			}
			t := msg.tally[m.crews[c]]
			ceased := mono.Never // the stay in which it was said
			for _, x := range m.ceased[[2]int32{c, msg.say.Room}] {
				if x[0] >= msg.say.Sent {
					ceased = min(x[0], max(x[1], msg.say.Sent))
					break
				}
			}
			expected, nobody := msg.firstAt.Add(prompt), len(msg.first) == 0
			if msg.say.Audience == ToMember || msg.say.Audience == ToSender {
				expected, nobody = msg.say.Sent.Add(prompt), false
			}
			if ceased <= msg.say.Sent.Add(grace) && (nobody || ceased < expected) {
				t.Excused++
			} else if m.missed(c, msg.say.Sent) && (m.away[c][1] == mono.Never || m.away[c][1] > msg.say.Sent) {
				m.claims = append(m.claims, modelClaim{msg, c})
			} else {
				t.Lost++
				cameToIt := len(msg.first) > 0 && msg.firstAt.Add(prompt) <= msg.say.Sent.Add(grace)
				if cameToIt && m.newest[[2]int32{c, msg.say.Room}] > msg.say.Sent {
					t.Overtaken++
				}
			}
		}
	}
}

func (m *model) leave(key [2]int32, now, broke mono.Time, confirmed bool) {
	if m.member[key] {
		m.ceased[key] = append(m.ceased[key], [2]mono.Time{now, broke})
		delete(m.member, key)
	}
	if _, inside := m.asked[key]; inside && confirmed {
		m.over[key] = append(m.over[key], now)
		delete(m.asked, key)
	}
}

// TestAgainstModel runs random histories of entering, leaving, breaking,
// saying and arriving through the ledger and through the model, and compares
// every tally of every message, and every spread.
func TestAgainstModel(t *testing.T) {
	reached := 0 // that were booked without a look at what is out of the common
	defer func() {
		if reached < 1000 {
			t.Errorf("%d were reached", reached)
		}
	}()
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 9))
		var spreads []Spread
		cfg := Config{Run: 77, Crews: 3, Prompt: 40 * time.Millisecond, Grace: 100 * time.Millisecond, Keep: 1 << 20,
			Sample: 5}
		cfg.Spread = func(s Spread) { spreads = append(spreads, s) }
		l := New(cfg)
		m := &model{away: map[Client]*[2]mono.Time{}, asked: map[[2]int32]mono.Time{}, last: map[[2]int32]mono.Time{},
			still: map[[2]int32]bool{}, entered: map[[2]int32]mono.Time{},
			newest: map[[2]int32]mono.Time{}, member: map[[2]int32]bool{},
			ceased: map[[2]int32][][2]mono.Time{}, over: map[[2]int32][]mono.Time{}}
		clients, rooms := 2+r.IntN(12), 1+r.IntN(3)
		for range clients {
			crew := uint16(r.IntN(3))
			l.AddClient(crew)
			m.crews = append(m.crews, crew)
		}
		for i := range rooms {
			l.Room(string(rune('a' + i)))
		}
		var sheets []*Sheet
		global := &Sheet{}
		settled := 0
		now := ms
		for range 1500 {
			now += mono.Time(r.IntN(3)) * ms
			for settled < len(m.messages) && m.messages[settled].say.Sent.Add(cfg.Grace) <= now {
				m.settle(settled, settled+1, cfg.Prompt, cfg.Grace)
				settled++
			}
			m.judgeClaims(now, cfg.Grace, -1)
			l.Settle(now)
			c, room := Client(r.IntN(clients)), Room(1+r.IntN(rooms))
			key := [2]int32{c, room}
			switch r.IntN(13) {
			case 0:
				l.Ask(c, room, now)
				m.last[key] = now
				_, in := m.asked[key]
				if m.still[key] = in; !m.member[key] {
					m.entered[key] = mono.Never
				}
				if !in {
					m.asked[key] = now
				}
			case 1, 2:
				l.Enter(c, room, now)
				if _, in := m.asked[key]; in && !m.member[key] {
					if m.entered[key] != mono.Never { // it had asked to leave
						m.still[key] = false
					}
					m.member[key], m.entered[key] = true, now
				}
			case 3:
				l.Quit(c, room, now)
				m.leave(key, now, mono.Never, false)
			case 4:
				if _, in := m.asked[key]; in {
					l.Left(c, room, now)
					m.leave(key, now, mono.Never, true)
				}
			case 5:
				if r.IntN(4) == 0 {
					m.judgeClaims(now, cfg.Grace, c)
					broke := mono.Never
					if a := m.away[c]; a != nil && a[1] == mono.Never {
						broke, a[1] = a[0], -1
					}
					l.Break(c, now)
					for i := range rooms {
						key := [2]int32{c, Room(1 + i)}
						m.leave(key, now, broke, true)
						for k, left := range m.ceased[key] { // it read nothing from then on, if it had left before, too
							if left[0] >= broke {
								m.ceased[key][k][1] = broke
							}
						}
					}
				}
			case 12:
				if a := m.away[c]; a == nil || a[1] != mono.Never {
					l.Suspend(c, now)
					m.away[c] = &[2]mono.Time{now, mono.Never}
				} else {
					l.Resume(c, now)
					a[1] = now
				}
			case 6, 7:
				s := Say{Kind: Notice, Audience: Audience(r.IntN(4)), Room: room, Sender: c,
					To: Client(r.IntN(clients)), Due: now - mono.Time(r.IntN(5))*ms, Sent: now, Sheet: &Sheet{}}
				if s.Audience == ToMember {
					s.Kind = Whisper
				}
				if n := l.Say(s); n != uint64(len(m.messages)) {
					t.Fatalf("seed %d: message %d has number %d", seed, len(m.messages), n)
				}
				sheets = append(sheets, s.Sheet)
				m.say(s)
			default:
				if len(m.messages) == 0 {
					continue
				}
				n := max(0, len(m.messages)-1-r.IntN(12))
				past := r.IntN(10) == 0
				of := mark.Mark{Run: 77, Room: uint32(m.messages[n].say.Room), Number: uint64(n)}
				if reach, ok := l.Reach(of, 0); ok && !past && r.IntN(2) == 0 {
					if _, f, ok := reach.To(c, now); ok {
						if reached++; n < settled || f > Late {
							t.Fatalf("seed %d: message %d of %d that are settled is %v", seed, n, settled, f)
						}
						m.arrive(n, c, now, past, cfg)
						continue
					}
				}
				v := l.Arrive(Arrival{To: c, Mark: of, At: now, Past: past, Sheet: global})
				switch {
				case n >= settled:
					m.arrive(n, c, now, past, cfg)
				case m.catchUp(m.messages[n], c):
					m.messages[n].came[c]++
					if v.Fate != CaughtUp {
						t.Fatalf("seed %d: what is claimed is %v", seed, v.Fate)
					}
				case past:
					m.past++
				default:
					want := Overdue
					if m.messages[n].came[c] > 0 {
						want = Duplicate
					} else {
						m.overdue++
					}
					m.messages[n].came[c]++
					if v.Fate != want {
						t.Fatalf("seed %d: an arrival after settlement is %v, want %v", seed, v.Fate, want)
					}
				}
			}
		}
		l.Settle(mono.Never - 1)
		m.settle(settled, len(m.messages), cfg.Prompt, cfg.Grace)
		m.judgeClaims(mono.Never-1, cfg.Grace, -1)
		for _, k := range m.claims { // still away at the end
			k.msg.tally[m.crews[k.to]].Excused++
		}
		compare(t, seed, m, sheets, spreads)
		var g Tally
		global.Each(func(_ Cell, c *Tally) { g.Add(c) })
		if g.Past != m.past || g.Overdue != m.overdue || l.Open() != 0 {
			t.Fatalf("seed %d: past %d, overdue %d, open %d; want %d, %d, 0", seed, g.Past, g.Overdue, l.Open(), m.past,
				m.overdue)
		}
	}
}

func compare(t *testing.T, seed uint64, m *model, sheets []*Sheet, spreads []Spread) {
	t.Helper()
	bySheet := map[*Sheet]Spread{}
	for _, s := range spreads {
		if _, twice := bySheet[s.Sheet]; twice {
			t.Fatalf("seed %d: a message has two spreads, the second %+v", seed, s)
		}
		bySheet[s.Sheet] = s
	}
	for i, msg := range m.messages {
		got := map[uint16]Tally{}
		sheets[i].Each(func(c Cell, tally *Tally) {
			if c.Room != msg.say.Room || c.Kind != msg.say.Kind {
				t.Fatalf("seed %d: message %d booked in %v", seed, i, c)
			}
			got[c.Crew] = *tally
		})
		var sum Tally
		for crew, want := range msg.tally {
			if got[crew] != *want {
				t.Fatalf("seed %d: message %d, crew %d: %+v\nwant %+v", seed, i, crew, got[crew], *want)
			}
			sum.Add(want)
		}
		if sum.Open() != 0 || !sheets[i].Settled() {
			t.Fatalf("seed %d: message %d does not add up: %+v", seed, i, sum)
		}
		if len(msg.first) == 0 {
			continue
		}
		slices.Sort(msg.first)
		n := len(msg.first)
		s := bySheet[sheets[i]]
		if s.Sheet != sheets[i] || s.Reached < n || s.First != msg.first[0] || s.Median != msg.first[(n-1)/2] ||
			s.Last != msg.first[n-1] {
			t.Fatalf("seed %d: message %d spread %+v, want %v", seed, i, s, msg.first)
		}
	}
}

func TestKept(t *testing.T) {
	l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Keep: 3, Sample: 3})
	sheet := &Sheet{}
	for range 3 {
		l.AddClient(0)
	}
	room := l.Room("lock-1")
	for c := range Client(2) {
		l.Ask(c, room, 0)
		l.Enter(c, room, 0)
	}
	arrive := func(n uint64, to Client, at mono.Time) {
		l.Arrive(Arrival{To: to, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: at, Sheet: sheet})
	}
	for i := range uint64(8) { // 0 good, 1 lost at client 1, 2 stray at client 2, the rest good
		at := mono.Time(i) * ms
		l.Say(Say{Room: room, Due: at, Sent: at, Sheet: sheet})
		arrive(i, 0, at+ms)
		if i != 1 {
			arrive(i, 1, at+2*ms)
		}
	}
	arrive(2, 2, 5*ms)
	// 8 is lost at client 1, and client 2, which is about to enter, may have it.
	l.Ask(2, room, 9*ms)
	l.Say(Say{Room: room, Due: 10 * ms, Sent: 10 * ms, Sheet: sheet})
	arrive(8, 2, 11*ms)
	arrive(8, 0, 12*ms)
	l.Settle(mono.Never - 1)
	if len(l.Kept) != 3 || len(l.Sampled) != 3 {
		t.Fatalf("%d kept, %d sampled", len(l.Kept), len(l.Sampled))
	}
	if k := l.Kept[0]; k.Number != 1 || k.Lost != 1 || k.Outcomes[0] != (Outcome{Client: 1, Fate: Lost}) ||
		k.Outcomes[1] != (Outcome{Client: 0, Fate: Delivered, Latency: time.Millisecond}) {
		t.Errorf("the lost one: %+v", k)
	}
	if k := l.Kept[1]; k.Number != 2 || k.Outcomes[0] != (Outcome{Client: 2, Fate: Stray,
		Latency: 3 * time.Millisecond}) || len(k.Outcomes) != 3 {
		t.Errorf("the stray one: %+v", k)
	}
	if k := l.Kept[2]; k.Number != 8 || k.Odd != 0 ||
		fmt.Sprint(k.Outcomes[0].Fate, k.Outcomes[1].Fate, k.Outcomes[2].Fate) != "lost allowed delivered" {
		t.Errorf("the other lost one: %+v", k)
	}
}

// TestNoAllocation: in the steady state neither saying nor arriving nor
// settling allocates.
func TestNoAllocation(t *testing.T) {
	const members = 500
	l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Millisecond})
	sheet := &Sheet{}
	room := l.Room("lock-1")
	for c := range Client(members) {
		l.AddClient(0)
		l.Ask(c, room, 0)
		l.Enter(c, room, 0)
	}
	now := mono.Time(0)
	round := func() {
		now += 2 * ms
		n := l.Say(Say{Room: room, Due: now, Sent: now, Sheet: sheet})
		for c := range Client(members) {
			l.Arrive(Arrival{To: c, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: now, Sheet: sheet})
		}
		l.Settle(now)
	}
	for range maxSettled + 200 { // from then on the memory of what is forgotten is used again
		round()
	}
	if n := testing.AllocsPerRun(200, round); n != 0 {
		t.Errorf("%v allocations a message, want 0", n)
	}
}

func BenchmarkArrive(b *testing.B) {
	const members = 5000
	l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: 10 * time.Millisecond, Spread: func(Spread) {}})
	sheet := &Sheet{}
	room := l.Room("lock-1")
	for c := range Client(members) {
		l.AddClient(0)
		l.Ask(c, room, 0)
		l.Enter(c, room, 0)
	}
	now, c, n := mono.Time(0), Client(members), uint64(0)
	for b.Loop() {
		if c == members {
			now, c = now+ms, 0
			l.Settle(now)
			n = l.Say(Say{Room: room, Due: now, Sent: now, Sheet: sheet})
		}
		l.Arrive(Arrival{To: c, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: now + mono.Time(c)*500,
			Sheet: sheet})
		c++
	}
}
