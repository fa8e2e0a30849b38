package ledger

import (
	"fmt"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/mark"
)

// harbour is a ledger with some clients that are members of lock-1 and of Everyone.
func harbour(clients int) (l *Ledger, room Room, sheet *Sheet) {
	l = New(Config{Run: 1, Crews: 1, Prompt: 100 * time.Millisecond, Grace: time.Second, Settle: 300 * time.Millisecond,
		Keep: 9, Sample: 9, Presence: func(Count) {}})
	room, sheet = l.Room("lock-1"), &Sheet{}
	for c := range Client(clients) {
		l.AddClient(0)
		for _, r := range []Room{Everyone, room} {
			l.Ask(c, r, 0)
			l.Enter(c, r, 0)
		}
	}
	return l, room, sheet
}

// TestCauses says a message to client 1 with something in the way, and loses it: it is lost, or
// excused by the cause that is meant. Client 2 has it if reached is set.
func TestCauses(t *testing.T) {
	const said = 5000 * ms
	begins := func(c Client, by excuse.Cause, at, until mono.Time) func(*Ledger, uint64) {
		return func(l *Ledger, _ uint64) {
			l.Hinder(c, by, at)
			if until != 0 {
				l.Free(c, by, until)
			}
		}
	}
	for name, tc := range map[string]struct {
		do      func(l *Ledger, number uint64)
		reached bool
		want    excuse.Cause // None: lost
	}{
		"nothing": {do: func(*Ledger, uint64) {}},
		"reads slowly": {do: begins(1, excuse.SlowReader, 4000*ms, 0), reached: true,
			want: excuse.SlowReader},
		"reads slowly from then on":       {do: begins(1, excuse.SlowReader, said+500*ms, 0), want: excuse.SlowReader},
		"had read slowly":                 {do: begins(1, excuse.SlowReader, 4000*ms, 4900*ms)},
		"reads slowly too late":           {do: begins(1, excuse.NotReading, said+1001*ms, 0)},
		"reads nothing":                   {do: begins(1, excuse.NotReading, said-1, said+1), want: excuse.NotReading},
		"a fault holds it down":           {do: begins(1, excuse.HeldDown, 4000*ms, said), want: excuse.HeldDown},
		"a fault holds it up":             {do: begins(0, excuse.HeldUp, 4000*ms, said+950*ms), want: excuse.HeldUp},
		"a fault holds it up, over early": {do: begins(0, excuse.HeldUp, 4000*ms, said+800*ms)},
		"a fault holds it up, and others have it": {do: begins(0, excuse.HeldUp, 4000*ms, 0),
			reached: true},
		"the recipient's is held up": {do: begins(1, excuse.HeldUp, 4000*ms, 0)},
		"changed on the way down":    {do: begins(1, excuse.ChangedDown, 4000*ms, 0), want: excuse.ChangedDown},
		"lost on the path": {do: func(l *Ledger, n uint64) { l.Pardon(n, 1, LostOnPath) },
			want: excuse.LostOnPath},
		"lost on another's path": {do: func(l *Ledger, n uint64) { l.Pardon(n, 2, LostOnPath) }},
		"its sender is cut off":  {do: func(l *Ledger, _ uint64) { l.Break(0, said+90*ms) }, want: excuse.CutOff},
		"its sender is cut off, and others have it": {do: func(l *Ledger, _ uint64) { l.Break(0, said+90*ms) },
			reached: true},
		"its sender is cut off later": {do: func(l *Ledger, _ uint64) { l.Break(0, said+110*ms) }},
		"its sender breaks, and comes back": {do: func(l *Ledger, _ uint64) {
			l.Suspend(0, said+90*ms)
			l.Resume(0, said+200*ms)
		}, want: excuse.CutOff},
		"its sender closes": {do: func(l *Ledger, _ uint64) {
			l.Cease(0, said+50*ms)
			l.Break(0, said+90*ms)
		}},
		"it leaves":             {do: func(l *Ledger, _ uint64) { l.Left(1, 1, said+50*ms) }, want: excuse.Left},
		"it leaves, later":      {do: func(l *Ledger, _ uint64) { l.Left(1, 1, said+150*ms) }, reached: true},
		"it hangs up":           {do: hangsUp(said + 50*ms), reached: true, want: excuse.HungUp},
		"it hangs up, all read": {do: hangsUp(said + 150*ms), reached: true},
		"it breaks for good":    {do: breaks(said + 50*ms), reached: true, want: excuse.HungUp},
		"the tool is behind":    {do: func(l *Ledger, _ uint64) { l.ReadUpTo(said + 999*ms) }, want: excuse.Behind},
		"the tool is in time":   {do: func(l *Ledger, _ uint64) { l.ReadUpTo(said + 1000*ms) }},
	} {
		l, room, sheet := harbour(3)
		n := l.Say(Say{Room: room, Sender: 0, Audience: ToOthers, Due: said, Sent: said, Sheet: sheet})
		if tc.reached {
			l.Arrive(Arrival{To: 2, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: said + 10*ms,
				Sheet: sheet})
		}
		tc.do(l, n)
		l.Settle(said + 1000*ms)
		var got Outcome
		for _, m := range append(l.Kept, l.Sampled...) {
			for _, o := range m.Outcomes {
				if o.Client == 1 {
					got = o
				}
			}
		}
		fate := Excused
		if tc.want == excuse.None {
			fate = Lost
		}
		if got.Fate != fate || got.Cause != tc.want || got.Why() == "" {
			t.Errorf("%s: %v by '%v', want '%v'", name, got.Fate, got.Cause, tc.want)
		}
	}
}

// hangsUp has client 1 end its connection, of which all was read that had come by then.
func hangsUp(read mono.Time) func(*Ledger, uint64) {
	return func(l *Ledger, _ uint64) {
		l.Hinder(1, excuse.HungUp, read)
		l.Break(1, read+300*ms)
	}
}

// breaks has client 1 lose its connection and not come back.
func breaks(broke mono.Time) func(*Ledger, uint64) {
	return func(l *Ledger, _ uint64) {
		l.Suspend(1, broke)
		l.Break(1, broke+300*ms)
	}
}

// TestLeftOut: where an order is promised over streams, a message is lost if a later one of its sender has
// come over the same connection, whatever excuses its recipient afterwards.
func TestLeftOut(t *testing.T) {
	const said = 5000 * ms
	leaves := func(l *Ledger) { l.Left(1, 1, said+50*ms) }
	for name, tc := range map[string]struct {
		order     Order
		datagrams bool
		before    func(l *Ledger) // between the two messages
		next      Client          // who says the second
		after     func(l *Ledger)
		want      Fate
	}{
		"leaves":             {order: BySender, after: leaves, want: Lost},
		"leaves, same order": {order: SameOrder, after: leaves, want: Lost},
		"reads slowly": {order: BySender, after: func(l *Ledger) { l.Hinder(1, excuse.SlowReader, said+40*ms) },
			want: Lost},
		"is cut off":     {order: BySender, after: func(l *Ledger) { l.Break(1, said+60*ms) }, want: Lost},
		"no order":       {after: leaves, want: Excused},
		"over datagrams": {order: BySender, datagrams: true, after: leaves, want: Excused},
		"another sender": {order: BySender, next: 2, after: leaves, want: Excused},
		"the sender is back again": {order: BySender, before: func(l *Ledger) { again(l, 0, said+5*ms) },
			after: leaves, want: Excused},
		"it is back itself": {order: BySender, before: func(l *Ledger) { again(l, 1, said+5*ms) },
			after: leaves, want: Excused},
		"a byte was changed": {order: BySender, before: func(l *Ledger) { l.Hinder(1, excuse.ChangedDown, said+5*ms) },
			after: leaves, want: Excused},
	} {
		l, room, sheet := harbour(3)
		l.cfg.Order, l.cfg.Streams = tc.order, !tc.datagrams
		say := func(from Client, at mono.Time) uint64 {
			return l.Say(Say{Room: room, Sender: from, Audience: ToOthers, Due: at, Sent: at, Sheet: sheet})
		}
		first := say(0, said)
		if tc.before != nil {
			tc.before(l)
		}
		second := say(tc.next, said+20*ms)
		l.Arrive(Arrival{To: 1, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: second}, At: said + 30*ms,
			Sheet: sheet})
		tc.after(l)
		l.Settle(said + 3000*ms)
		for _, m := range append(l.Kept, l.Sampled...) {
			for _, o := range m.Outcomes {
				if m.Number == first && o.Client == 1 && o.Fate != tc.want {
					t.Errorf("%s: %v, want %v", name, o.Fate, tc.want)
				}
			}
		}
		var got Tally
		sheet.Each(func(_ Cell, c *Tally) { got.Add(c) })
		if (got.Overtaken > 0) != (tc.want == Lost) || got.Open() != 0 {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

// again has a client break, and come back into its rooms.
func again(l *Ledger, c Client, at mono.Time) {
	l.Break(c, at)
	for _, r := range []Room{Everyone, 1} {
		l.Ask(c, r, at+ms)
		l.Enter(c, r, at+ms)
	}
}

// TestUnsureMembers: a number of members may be too low by those that may not know that they are
// none any more, for as long as that lasts and a little longer, wherever they go; and too high by
// those whose names may have come to the server changed.
func TestUnsureMembers(t *testing.T) {
	l, room, _ := harbour(3)
	other := l.Room("lock-2")
	unsure := func(r Room) int { return l.rooms[r].count.unsure }
	l.Hinder(1, excuse.SlowReader, 10*ms)
	l.Hinder(1, excuse.HeldDown, 20*ms)
	l.Hinder(2, excuse.ChangedUp, 20*ms)
	l.Hinder(2, excuse.ChangedDown, 20*ms)
	l.Ask(1, other, 30*ms)
	l.Enter(1, other, 30*ms)
	l.Quit(2, room, 40*ms)
	if unsure(room) != 1 || unsure(other) != 1 || unsure(Everyone) != 2 || !l.Garbling(50*ms) {
		t.Errorf("unsure are %d, %d and %d", unsure(room), unsure(other), unsure(Everyone))
	}
	l.Free(1, excuse.SlowReader, 100*ms)
	l.Free(2, excuse.ChangedUp, 100*ms)
	l.Free(2, excuse.ChangedDown, 100*ms)
	if l.Garbling(2000 * ms); unsure(room) != 1 || unsure(Everyone) != 1 || l.Garbling(2000*ms) {
		t.Errorf("later unsure are %d and %d", unsure(room), unsure(Everyone))
	}
	l.Free(1, excuse.HeldDown, 1000*ms)
	if l.Garbling(2000 * ms); unsure(room) != 1 {
		t.Error("it is not said any more that one is unsure who was a moment ago")
	}
	l.Garbling(3000 * ms)
	l.Hinder(1, excuse.HungUp, 900*ms) // of which nobody knew when it was read up to then
	if unsure(room)+unsure(other)+unsure(Everyone) != 0 {
		t.Error("one is unsure for good")
	}
}

// TestLeavesBeforeItCatchesUp: what a client that is back has not caught up on is lost, once it could
// expect it; not if it leaves before.
func TestLeavesBeforeItCatchesUp(t *testing.T) {
	for name, tc := range map[string]struct {
		do   func(l *Ledger)
		want Fate
	}{
		"stays":               {func(*Ledger) {}, Lost},
		"leaves":              {func(l *Ledger) { l.Quit(1, 1, 2500*ms) }, Excused},
		"closes":              {func(l *Ledger) { l.Cease(1, 2500*ms); l.Break(1, 2600*ms) }, Excused},
		"closes later":        {func(l *Ledger) { l.Cease(1, 3100*ms) }, Lost},
		"leaves another room": {func(l *Ledger) { l.Quit(1, Everyone, 2500*ms) }, Lost},
	} {
		l, room, sheet := harbour(2)
		l.Suspend(1, 100*ms)
		n := l.Say(Say{Room: room, Sender: 0, Due: 200 * ms, Sent: 200 * ms, Sheet: sheet})
		l.Arrive(Arrival{To: 0, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: 210 * ms, Sheet: sheet})
		l.Settle(1900 * ms)
		l.Resume(1, 2000*ms)
		tc.do(l)
		l.Settle(3500 * ms)
		var got Tally
		sheet.Each(func(_ Cell, c *Tally) { got.Add(c) })
		if got.Open() != 0 || *got.Of(tc.want) != 1 || got.Lost+got.Excused != 1 {
			t.Errorf("%s: %+v, want %v", name, got, tc.want)
		}
	}
}

// BenchmarkCatchUp has clients catch up on what was said while they were away, in the order in
// which it was said: a message more costs the same whether few are claimed or many.
func BenchmarkCatchUp(b *testing.B) {
	for _, messages := range []int{100, maxClaims} {
		b.Run(fmt.Sprint(messages), func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				l, room, sheet := harbour(2)
				l.Suspend(1, 1)
				for range messages {
					n := l.Say(Say{Room: room, Sender: 0, Due: ms, Sent: ms, Sheet: sheet})
					m := mark.Mark{Run: 1, Room: uint32(room), Number: n}
					l.Arrive(Arrival{To: 0, Mark: m, At: ms, Sheet: sheet})
				}
				l.Settle(2000 * ms)
				l.Resume(1, 2000*ms)
				b.StartTimer()
				for n := range uint64(messages) {
					l.Arrive(Arrival{To: 1, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: 2001 * ms,
						Sheet: sheet})
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*messages), "ns/message")
		})
	}
}

// BenchmarkFaultOnAll begins a fault that all clients are hit by and ends it, while servers say
// numbers of members: what it costs for each client does not grow with how many there are.
func BenchmarkFaultOnAll(b *testing.B) {
	for _, clients := range []int{100, 10_000} {
		b.Run(fmt.Sprint(clients), func(b *testing.B) {
			l, room, _ := harbour(clients)
			now := mono.Time(0)
			for b.Loop() {
				now += 10 * ms
				for c := range Client(clients) {
					l.Hinder(c, excuse.HeldDown, now)
					l.MembersSaid(c, room, 1, now)
				}
				for c := range Client(clients) {
					l.Free(c, excuse.HeldDown, now+ms)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*clients), "ns/client")
		})
	}
}

// TestBetweenRoutes: what was said while a client was on its way to its next route may have been kept for it,
// and of a room that it was not in just before it is a stray.
func TestBetweenRoutes(t *testing.T) {
	for name, tc := range map[string]struct {
		room string
		goes bool
		want Fate
	}{
		"kept for it":              {"lock-1", true, Allowed},
		"of another room":          {"lock-2", true, Stray},
		"of one that just left it": {"lock-1", false, Stray},
	} {
		l := New(Config{Run: 1, Crews: 1, Prompt: 40 * time.Millisecond, Grace: time.Second})
		l.AddClient(0)
		l.AddClient(0)
		sheet := &Sheet{}
		for c, rooms := range [][]string{{"lock-1", "lock-2"}, {"lock-1"}} {
			for _, room := range rooms {
				l.Ask(Client(c), l.Room(room), ms)
				l.Enter(Client(c), l.Room(room), ms)
			}
		}
		l.Break(1, 10*ms)
		if tc.goes {
			l.Hinder(1, excuse.BetweenRoutes, 10*ms)
		}
		room := l.Room(tc.room)
		n := l.Say(Say{Room: room, Sheet: sheet, Due: 20 * ms, Sent: 20 * ms})
		v := l.Arrive(Arrival{To: 1, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: 30 * ms, Sheet: sheet})
		if v.Fate != tc.want {
			t.Errorf("%s: %v, want %v", name, v.Fate, tc.want)
		}
	}
}

// TestOverdueLatency: how long a delivery took that came after its grace time is known.
func TestOverdueLatency(t *testing.T) {
	l := New(Config{Run: 1, Crews: 1, Prompt: 40 * time.Millisecond, Grace: 5 * time.Second})
	room, sheet := l.Room("lock-1"), &Sheet{}
	for c := range Client(2) {
		l.AddClient(0)
		l.Ask(c, room, ms)
		l.Enter(c, room, ms)
	}
	n := l.Say(Say{Room: room, Sheet: sheet, Due: 20 * ms, Sent: 20 * ms})
	l.Settle(5100 * ms)
	v := l.Arrive(Arrival{To: 1, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: 6050 * ms, Sheet: sheet})
	if v.Fate != Overdue || v.Latency != 6030*time.Millisecond || v.Owed != 2 || v.Own {
		t.Errorf("%+v", v)
	}
}

// TestOvertaken: a message that nobody has may still be in the queue of a server that has come to a later one, of
// another sender; one that others had in time, and its recipient not, was left out.
func TestOvertaken(t *testing.T) {
	const said = 5000 * ms
	for others, want := range map[mono.Time]int64{0: 0, said + 30*ms: 1, said + 950*ms: 0} {
		l, room, sheet := harbour(4)
		l.ReadUpTo(said + 2000*ms)
		say := func(from Client, at mono.Time) uint64 {
			return l.Say(Say{Room: room, Sender: from, Audience: ToOthers, Due: at, Sent: at, Sheet: sheet})
		}
		get := func(to Client, number uint64, at mono.Time) {
			l.Arrive(Arrival{To: to, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: number}, At: at, Sheet: sheet})
		}
		first, second := say(0, said), say(3, said+20*ms)
		get(1, second, said+40*ms)
		if others > 0 {
			get(2, first, others)
		}
		l.Settle(said + 1000*ms)
		var got Tally
		for i := range sheet.cells {
			got.Add(&sheet.cells[i])
		}
		if got.Overtaken != want {
			t.Errorf("others have it at %v: %+v", others, got)
		}
	}
}
