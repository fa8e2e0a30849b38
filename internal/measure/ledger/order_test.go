package ledger

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/mark"
)

// TestOrder delivers messages to the members of a room in orders of their own,
// the connections read in any order, and compares with what follows from the
// orders: a message is reordered if a later one of its sender was there
// before it; members disagree exactly where their orders differ.
func TestOrder(t *testing.T) {
	differ := 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 4))
		cfg := Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Keep: 1000, Order: SameOrder}
		l := New(cfg)
		room := l.Room("lock-1")
		members, senders, count := 2+r.IntN(4), 1+r.IntN(3), 2+r.IntN(9)
		for range members {
			c := l.AddClient(0)
			l.Ask(c, room, 0)
			l.Enter(c, room, 0)
		}
		sheet := &Sheet{}
		from := make([]int, count) // the sender, and the connection that it said it on
		for i := range count {
			from[i] = r.IntN(2 * min(senders, members))
			if n := l.Say(Say{Room: room, Sender: Client(from[i] / 2), Apart: from[i]%2 == 1,
				Sheet: sheet}); n != uint64(i) {
				t.Fatal(n)
			}
		}
		// Each member's order is the common one, disturbed in one run of three.
		common := r.Perm(count)
		orders := make([][]int, members)
		for m := range orders {
			orders[m] = slices.Clone(common)
			if seed%3 == 0 && r.IntN(2) == 0 {
				i := r.IntN(count - 1)
				orders[m][i], orders[m][i+1] = orders[m][i+1], orders[m][i]
			}
		}
		wantReordered, same := int64(0), true
		for m := range orders {
			same = same && slices.Equal(orders[m], orders[0])
			for i, msg := range orders[m] {
				for _, before := range orders[m][:i] {
					if from[before] == from[msg] && before > msg {
						wantReordered++
						break
					}
				}
			}
		}
		next := make([]int, members)
		for left := members * count; left > 0; {
			m := r.IntN(members)
			for burst := 1 + r.IntN(3); burst > 0 && next[m] < count; burst-- { // one read may hold several
				l.Arrive(Arrival{To: Client(m), Mark: mark.Mark{Run: 1, Room: uint32(room),
					Number: uint64(orders[m][next[m]])}, At: 1, Sheet: sheet})
				next[m]++
				left--
			}
		}
		l.Settle(mono.Never - 1)
		var got Tally
		sheet.Each(func(_ Cell, c *Tally) { got.Add(c) })
		if got.Reordered != wantReordered {
			t.Fatalf("seed %d: %d are reordered, want %d; senders %v, orders %v", seed, got.Reordered, wantReordered,
				from, orders)
		}
		// What overtakes its own sender's is said as that; if there is no such
		// thing, disagreement must show exactly if there is any.
		if wantReordered == 0 && (got.Disagreed == 0) != same {
			t.Fatalf("seed %d: %d disagree; orders %v", seed, got.Disagreed, orders)
		}
		if same && got.Disagreed != 0 {
			t.Fatalf("seed %d: a false alarm: %d disagree; orders %v", seed, got.Disagreed, orders)
		}
		if !same {
			differ++
		}
		if got.Delivered != int64(members*count) || got.Open() != 0 {
			t.Fatalf("seed %d: %+v", seed, got)
		}
	}
	if differ < 50 {
		t.Errorf("only in %d runs did the orders differ", differ)
	}
}

// TestPresence enters, leaves and cuts off at random, tells members numbers, and
// compares each judgement with what the membership can have been within the
// time that a server may take, and in the end was.
func TestPresence(t *testing.T) {
	const settle = 50 * time.Millisecond
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 5))
		var said []Count
		l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Settle: settle, Updates: true,
			Presence: func(c Count) { said = append(said, c) }})
		room := l.Room("lock-1")
		clients := 3 + r.IntN(8)
		asked, member := map[Client]bool{}, map[Client]bool{}
		lastSaid := map[Client]int{}
		type span struct {
			from      mono.Time
			low, high int
		}
		spans := []span{{}} // how the membership was, from when on
		now := ms
		changed := func() {
			if s := (span{now, len(member), len(asked)}); s.low != spans[len(spans)-1].low ||
				s.high != spans[len(spans)-1].high {
				spans = append(spans, s)
			}
		}
		for range clients {
			l.AddClient(0)
		}
		if r.IntN(2) == 0 { // a server that says no numbers has none wrong
			l.Ask(0, room, now)
			l.Enter(0, room, now)
			l.Settle(now.Add(2 * settle))
			l.Left(0, room, now.Add(2*settle))
			if now = now.Add(4 * settle); len(said) > 0 {
				t.Fatalf("seed %d: %+v, and no number was said", seed, said)
			}
		}
		l.Ask(0, room, now)
		l.MembersSaid(0, room, 1, now)
		l.Left(0, room, now)
		now, said = now.Add(4*settle), nil
		l.Settle(now)
		type doubt struct {
			at           mono.Time
			n, low, high int
		}
		var doubts []doubt
		for range 400 {
			now += mono.Time(r.IntN(4)) * ms
			if r.IntN(25) == 0 {
				now = now.Add(settle + time.Millisecond) // quiet
			}
			quietFrom := len(said)
			l.Settle(now)
			var quiet []Count
			for _, got := range said[quietFrom:] {
				if got.Final {
					quiet = append(quiet, got)
					continue
				}
				d := doubts[0] // judged again, by how few there were since
				for i, s := range spans {
					if i+1 == len(spans) || spans[i+1].from > d.at {
						d.low = min(d.low, s.low)
					}
				}
				if doubts = doubts[1:]; now < d.at.Add(settle) || got.Right() != (d.n >= d.low && d.n <= d.high) {
					t.Fatalf("seed %d at %v: %+v judged %+v", seed, now, d, got)
				}
			}
			checkQuiet(t, seed, quiet, member, asked, lastSaid)
			c := Client(r.IntN(clients))
			switch r.IntN(6) {
			case 0:
				l.Ask(c, room, now)
				if !asked[c] {
					lastSaid[c] = -1
				}
				asked[c] = true
			case 1:
				l.Enter(c, room, now)
				if asked[c] {
					member[c] = true
				}
			case 2:
				l.Quit(c, room, now)
				delete(member, c)
			case 3:
				l.Break(c, now)
				delete(member, c)
				delete(asked, c)
			default:
				if _, known := lastSaid[c]; !known {
					continue // it never had to do with the room
				}
				n := r.IntN(clients + 2)
				lastSaid[c] = n
				low, high := len(member), len(asked)
				for i, s := range spans {
					if i+1 < len(spans) && spans[i+1].from >= now.Add(-settle) {
						low, high = min(low, s.low), max(high, s.high)
					}
				}
				before := len(said)
				l.MembersSaid(c, room, n, now)
				right := n >= low && n <= high
				if at := len(said) > before; at != right || at && (said[before].Final || !said[before].Right()) {
					t.Fatalf("seed %d at %v: said %d, judged %+v; it was %d to %d", seed, now, n, said[before:], low,
						high)
				}
				if !right {
					doubts = append(doubts, doubt{now, n, low, high})
				}
			}
			changed()
		}
	}
}

// checkQuiet compares the judgements of a room that has been quiet.
func checkQuiet(t *testing.T, seed uint64, said []Count, member, asked map[Client]bool, last map[Client]int) {
	t.Helper()
	if len(said) == 0 {
		return
	}
	if len(said) != len(member) || len(member) != len(asked) {
		t.Fatalf("seed %d: %d judgements of %d members, %d inside", seed, len(said), len(member), len(asked))
	}
	for _, c := range said {
		if !c.Final || !member[c.To] || c.Least != len(member) || c.Most != len(member) || c.Said != last[c.To] {
			t.Fatalf("seed %d: %+v, was said %d, members %d", seed, c, last[c.To], len(member))
		}
	}
}

// TestAnnounced: enter and leave notices are owed to the others once, known by
// whom they are about; one that is taken back is owed to nobody any more.
func TestAnnounced(t *testing.T) {
	l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Keep: 10})
	room := l.Room("lock-1")
	sheet := &Sheet{}
	for i := range Client(4) {
		l.AddClient(0)
		if i < 3 {
			l.Ask(i, room, 0)
			l.Enter(i, room, 0)
		}
	}
	announce := func(k Kind, about Client, at mono.Time) uint64 {
		return l.Say(Say{Kind: k, Audience: ToOthers, Room: room, Sender: about, Due: at, Sent: at, Sheet: sheet})
	}
	hear := func(k Kind, about, to Client, at mono.Time) Fate {
		n, ok := l.Announced(k, room, about, mono.Never)
		if !ok {
			return Foreign
		}
		return l.Arrive(Arrival{To: to, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: at,
			Sheet: sheet}).Fate
	}
	l.Ask(3, room, ms)
	announce(Joined, 3, ms)
	if a, b, c := hear(Joined, 3, 0, 2*ms), hear(Joined, 3, 1, 2*ms), hear(Joined, 3, 1, 3*ms); a != Delivered ||
		b != Delivered || c != Duplicate {
		t.Errorf("entering: %v %v %v", a, b, c)
	}
	l.Enter(3, room, 3*ms)
	if f := hear(Gone, 2, 0, 4*ms); f != Foreign {
		t.Errorf("a notice of nothing is %v", f)
	}
	l.Quit(2, room, 5*ms)
	n := announce(Gone, 2, 5*ms)
	if _, open := l.Announced(Gone, room, 2, mono.Never); !open || l.IsInside(room, 2) != true {
		t.Error("that 2 goes is not known")
	}
	hear(Gone, 2, 0, 6*ms)
	l.Cancel(n)
	l.Settle(mono.Never - 1)
	var joined, gone Tally
	sheet.Each(func(c Cell, t *Tally) {
		if c.Kind == Joined {
			joined.Add(t)
		} else {
			gone.Add(t)
		}
	})
	if joined.Owed != 3 || joined.Delivered != 2 || joined.Excused != 1 || joined.Lost != 0 || joined.Duplicate != 1 ||
		joined.Said != 0 {
		t.Errorf("joined: %+v", joined)
	}
	if gone.Owed != 1 || gone.Delivered != 1 || gone.Lost != 0 {
		t.Errorf("gone, taken back: %+v", gone)
	}
	if _, open := l.Announced(Joined, room, 3, mono.Never); open {
		t.Error("a settled notice is still open")
	}
}

// TestOrderOfThoseWhoShare: somebody enters between two messages, and its
// connection is read first. It was not a member for both, so it says nothing of
// their order; two who were and got them otherwise do.
func TestOrderOfThoseWhoShare(t *testing.T) {
	for _, swapped := range []bool{false, true} {
		l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Keep: 10, Order: SameOrder})
		room, sheet := l.Room("lock-1"), &Sheet{}
		enter := func(c Client) {
			l.Ask(c, room, 0)
			l.Enter(c, room, 0)
		}
		for range 4 {
			l.AddClient(0)
		}
		enter(0)
		enter(1)
		first := l.Say(Say{Room: room, Sender: 0, Sheet: sheet})
		enter(2)
		second := l.Say(Say{Room: room, Sender: 1, Sheet: sheet})
		get := func(to Client, n uint64) {
			l.Arrive(Arrival{To: to, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: 1, Sheet: sheet})
		}
		get(2, second) // the newcomer is read first
		get(0, first)
		get(0, second)
		if swapped {
			get(1, second)
			get(1, first)
		} else {
			get(1, first)
			get(1, second)
		}
		l.Settle(mono.Never - 1)
		var got Tally
		sheet.Each(func(_ Cell, c *Tally) { got.Add(c) })
		if (got.Disagreed > 0) != swapped || got.Disagreed > 1 || got.Lost != 0 {
			t.Errorf("swapped %v: %+v", swapped, got)
		}
	}
}

// TestPileUp: what is sent while a client reads slowly on purpose is its own
// affair; what is sent to it afterwards is not, nor in a later life.
func TestPileUp(t *testing.T) {
	const ms = mono.Time(time.Millisecond)
	l := New(Config{Run: 1, Crews: 1, Prompt: 100 * time.Millisecond, Grace: time.Second, Sample: 9})
	room, sheet := l.Room("lock-1"), &Sheet{}
	for c := range Client(3) {
		l.AddClient(0)
		l.Ask(c, room, 0)
		l.Enter(c, room, 0)
	}
	say := func(at mono.Time) uint64 {
		return l.Say(Say{Room: room, Sender: 0, Audience: ToOthers, Due: at, Sent: at, Sheet: sheet})
	}
	get := func(n uint64, at mono.Time) Verdict {
		return l.Arrive(Arrival{To: 1, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: at, Sheet: sheet})
	}
	l.Hinder(1, excuse.SlowReader, 10*ms)
	l.Hinder(2, excuse.SlowReader, 10*ms)
	piled, left := say(20*ms), say(30*ms)
	l.Free(1, excuse.SlowReader, 600*ms)
	after, lost := say(700*ms), say(710*ms)
	if v := get(piled, 650*ms); v.Fate != Delivered || !v.Own {
		t.Errorf("what piled up is %v, its own %v", v.Fate, v.Own)
	}
	if v := get(after, 900*ms); v.Fate != Late || v.Own {
		t.Errorf("what came late afterwards is %v, its own %v", v.Fate, v.Own)
	}
	// Another slow one comes again, and is given what it had as history.
	l.Arrive(Arrival{To: 2, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: piled}, At: 940 * ms, Sheet: sheet})
	l.Left(2, room, 950*ms)
	l.Ask(2, room, 960*ms)
	if v := l.Arrive(Arrival{To: 2, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: piled}, At: 970 * ms,
		Past: true, Sheet: sheet}); v.Fate != Past {
		t.Errorf("what piled up is %v when it comes as history in another stay", v.Fate)
	}
	l.Settle(mono.Never - 1)
	for _, m := range l.Sampled {
		if o := m.Outcomes[len(m.Outcomes)-1]; m.Number == piled && (o.Fate != Delivered || o.Latency != 0) {
			t.Errorf("what piled up is kept as %+v", o)
		}
	}
	if len(l.Sampled) == 0 || l.Sampled[0].Number != piled {
		t.Errorf("kept are %+v", l.Sampled)
	}
	var got Tally
	sheet.Each(func(_ Cell, c *Tally) { got.Add(c) })
	if got.Delivered != 2 || got.Late != 1 || got.Excused != 4 || got.Lost != 1 {
		t.Errorf("%d excused and %d lost: %+v", left, lost, got)
	}
}

// TestAfterSettlement: a second copy of what was settled is a duplicate to those
// who had it, and overdue to the others. A whisper that its recipient could
// expect before it left is lost, and costs next to nothing among 20,000.
func TestAfterSettlement(t *testing.T) {
	const ms = mono.Time(time.Millisecond)
	l := New(Config{Run: 1, Crews: 1, Prompt: 100 * time.Millisecond, Grace: time.Second})
	sheet := &Sheet{}
	for c := range Client(20_000) {
		l.AddClient(0)
		l.Ask(c, Everyone, 0)
		l.Enter(c, Everyone, 0)
	}
	get := func(n uint64, to Client, at mono.Time) Fate {
		return l.Arrive(Arrival{To: to, Mark: mark.Mark{Run: 1, Room: uint32(Everyone), Number: n}, At: at,
			Sheet: sheet}).Fate
	}
	all := l.Say(Say{Room: Everyone, Sender: 0, Sheet: sheet})
	for to := range Client(19_999) {
		get(all, to, ms)
	}
	whisper := l.Say(Say{Kind: Whisper, Audience: ToMember, Room: Everyone, Sender: 0, To: 19_998, Sheet: sheet})
	r := l.rowOf(whisper)
	if r.got.Words() > 0 || cap(r.latency) > 0 {
		t.Errorf("a whisper takes %d words and %d latencies", r.got.Words(), cap(r.latency))
	}
	l.Quit(19_998, Everyone, 500*ms)
	l.Settle(2000 * ms)
	for i, want := range []Fate{Duplicate, Overdue, Duplicate} {
		to := []Client{7, 19_999, 19_999}[i]
		if f := get(all, to, 3000*ms); f != want {
			t.Errorf("after settlement, to %d: %v, want %v", to, f, want)
		}
	}
	var got Tally
	sheet.Each(func(c Cell, t *Tally) {
		if c.Kind == Whisper {
			got.Add(t)
		}
	})
	if got.Lost != 1 {
		t.Errorf("the whisper: %+v", got)
	}
}

// TestSamplesAreNotCharged: the sample of good messages does not use up what may
// be kept of wrong ones.
func TestSamplesAreNotCharged(t *testing.T) {
	l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Keep: 10, Sample: 10})
	room, sheet := l.Room("lock-1"), &Sheet{}
	const clients = 5000
	for c := range Client(clients) {
		l.AddClient(0)
		l.Ask(c, room, 0)
		l.Enter(c, room, 0)
	}
	for i := range 300 {
		n := l.Say(Say{Room: room, Sender: 0, Sheet: sheet})
		for to := range Client(clients) {
			if i < 299 || to > 0 {
				l.Arrive(Arrival{To: to, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: 1, Sheet: sheet})
			}
		}
		l.Settle(mono.Never - 1)
	}
	if len(l.Kept) != 1 || len(l.Kept[0].Outcomes) != clients {
		t.Errorf("of the wrong message %d outcomes are kept, want %d", len(l.Kept[0].Outcomes), clients)
	}
}

// TestRememberedForAllShares: what comes again after it was settled is a duplicate or overdue by how many
// messages were settled since, and not by how many shares numbered them.
func TestRememberedForAllShares(t *testing.T) {
	const ms, messages = mono.Time(time.Millisecond), maxSettled + 500
	fates := func(shares int) (all []Fate) {
		l := New(Config{Run: 1, Crews: 1, Shares: shares, Prompt: time.Second, Grace: time.Second})
		room, sheet := l.Room("lock-1"), &Sheet{}
		for c := range Client(2) {
			l.AddClient(0)
			l.Ask(c, room, 0)
			l.Enter(c, room, 0)
		}
		var numbers []uint64
		get := func(n uint64, at mono.Time) Fate {
			return l.Arrive(Arrival{To: 1, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: at,
				Sheet: sheet}).Fate
		}
		for i := range messages {
			at := mono.Time(i) * ms
			n := l.Say(Say{Room: room, Due: at, Sent: at, Sheet: sheet, Share: i / 100 % shares})
			numbers = append(numbers, n)
			get(n, at)
		}
		l.Settle(mono.Never - 1)
		for _, n := range numbers {
			all = append(all, get(n, messages*ms))
		}
		return all
	}
	one, four := fates(1), fates(4)
	if !slices.Equal(one, four) || !slices.Contains(one, Duplicate) || !slices.Contains(one, Overdue) {
		i := 0
		for i < len(one) && one[i] == four[i] {
			i++
		}
		t.Errorf("message %d of %d comes again: with one share %v, with four %v", i, messages, one[min(i, messages-1)],
			four[min(i, messages-1)])
	}
}

// TestClosedWhileAway: a client that goes for good while its connection is broken is away no more, and wrong
// numbers of members are noticed afterwards.
func TestClosedWhileAway(t *testing.T) {
	wrong := 0
	l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Settle: 50 * time.Millisecond,
		Presence: func(c Count) {
			if !c.Right() {
				wrong++
			}
		}})
	room := l.Room("lock-1")
	for c := range Client(3) {
		l.AddClient(0)
		l.Ask(c, room, ms)
		l.Enter(c, room, ms)
	}
	l.Suspend(2, 100*ms)
	l.Left(2, room, 200*ms)
	l.Settle(900 * ms)
	l.MembersSaid(0, room, 2, 1000*ms)
	l.Settle(1900 * ms)
	if wrong != 0 {
		t.Errorf("%d wrong numbers, and 2 is right", wrong)
	}
	l.MembersSaid(0, room, 1, 2000*ms)
	if l.Settle(2900 * ms); wrong != 1 {
		t.Errorf("%d wrong numbers, where 1 is wrong of 2", wrong)
	}
}

// TestListings: who must be in a list of members and is not, or is and cannot be, is named; who changed lately,
// is away, or turns out to be gone may be in it or not.
func TestListings(t *testing.T) {
	const settle = 50 * time.Millisecond
	fine, none := Listing{Lacks: -1, Extra: -1}, func(*Ledger, Room) {}
	left := func(at mono.Time) func(*Ledger, Room) { return func(l *Ledger, r Room) { l.Left(3, r, at) } }
	for name, tc := range map[string]struct {
		does func(l *Ledger, room Room)
		list []Client
		want Listing
	}{
		"all":               {none, []Client{0, 1, 2, 3}, fine},
		"all but itself":    {none, []Client{1, 2, 3}, fine},
		"one is missing":    {none, []Client{0, 1, 3}, Listing{Lacks: 2, Extra: -1}},
		"one is long gone":  {left(100 * ms), []Client{0, 1, 2, 3}, Listing{Lacks: -1, Extra: 3}},
		"one has just gone": {left(980 * ms), []Client{0, 1, 2, 3}, fine},
		"one has just come": {func(l *Ledger, r Room) {
			l.Left(3, r, 5*ms)
			l.Ask(3, r, 960*ms)
			l.Enter(3, r, 970*ms)
		}, []Client{0, 1, 2}, fine},
		"one is about to enter": {func(l *Ledger, r Room) {
			l.Left(3, r, 5*ms)
			l.Ask(3, r, 100*ms)
		}, []Client{0, 1, 2, 3}, fine},
		"one is away": {func(l *Ledger, _ Room) { l.Suspend(3, 500*ms) }, []Client{0, 1, 2}, fine},
	} {
		var said []Listing
		l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Settle: settle,
			Presence: func(Count) {}, Listed: func(n Listing) { said = append(said, n) }})
		room := l.Room("lock-1")
		for c := range Client(4) {
			l.AddClient(0)
			l.Ask(c, room, ms)
			l.Enter(c, room, ms)
		}
		tc.does(l, room)
		l.NamesSaid(0, room, func(c Client) bool { return slices.Contains(tc.list, c) }, 1000*ms)
		if name == "one is missing" { // the tool learns only now that it has gone
			l.Settle(1100 * ms)
			if len(said) > 0 {
				t.Fatal("it is judged before the tool can know who is gone")
			}
		}
		l.Settle(1900 * ms)
		if len(said) != 1 || said[0].Lacks != tc.want.Lacks || said[0].Extra != tc.want.Extra {
			t.Errorf("%s: %+v", name, said)
		}
	}
}
