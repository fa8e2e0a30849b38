package account

import (
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

const ms = mono.Time(time.Millisecond)

// twoShares makes an account of four clients in two shares, all of them in one room.
func twoShares(t *testing.T) *Account { return twoSharesOf(t, trial.Target{}) }

func twoSharesOf(t *testing.T, target trial.Target) *Account {
	t.Helper()
	tr := &trial.Trial{Prompt: 50 * time.Millisecond, Grace: 100 * time.Millisecond, Crews: []trial.Crew{{Clients: 4}},
		Tide:   trial.Tide{Legs: []trial.Leg{{To: 1, Over: time.Minute}}},
		Checks: []trial.Check{{Name: "berth"}}, Target: target}
	a := New(Config{Trial: tr, Run: 3, Shares: 2, Names: []string{"a", "b", "c", "d"},
		Sharers: func(ledger.Client) []ledger.Client { return nil }})
	for share := range 2 {
		b := fact.Batch{UpTo: 2 * ms}
		if share == 1 { // which knows another room before
			b.AddText(fact.Fact{Kind: fact.NamesRoom, Room: 1}, []byte("quay"))
		}
		b.AddText(fact.Fact{Kind: fact.NamesRoom, Room: 1 + int32(share)}, []byte("lock-1"))
		for c := int32(share); c < 4; c += 2 {
			b.Add(fact.Fact{Kind: fact.Asks, Client: c, Room: 1 + int32(share)})
			b.Add(fact.Fact{Kind: fact.Enters, Client: c, Room: 1 + int32(share), At: ms})
		}
		a.Take(share, &b)
	}
	if err := a.Work(); err != nil {
		t.Fatal(err)
	}
	return a
}

// tell hands over facts of one share, which has told all up to an instant, and has read
// all that came by then.
func (a *Account) tell(t *testing.T, share int, upTo mono.Time, facts ...fact.Fact) {
	t.Helper()
	b := fact.Batch{UpTo: upTo, Log: fact.Log{Facts: facts}}
	last := mono.Time(0)
	if n := len(facts); n > 0 {
		last = facts[n-1].At
	}
	b.Add(fact.Fact{Kind: fact.Caught, Client: fact.AfterAll, At: max(last, a.now), Time: upTo, Since: upTo})
	a.Take(share, &b)
	if err := a.Work(); err != nil {
		t.Fatal(err)
	}
}

// TestSilence: what a share tells waits until the others have told as much, and silence
// means nothing before all of them have read what came.
func TestSilence(t *testing.T) {
	a := twoShares(t)
	got := func(client int32, at mono.Time) fact.Fact {
		return fact.Fact{Kind: fact.Gets, Client: client, Number: 0, Room: 1, At: at, Time: at}
	}
	tally := func() ledger.Tally {
		w, err := logbook.Sum([]*logbook.Entry{a.book.Now().Entry()}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return w.Total
	}
	// Client 1 has the message before the account knows that client 0 said it.
	a.tell(t, 1, 30*ms, got(1, 12*ms))
	if n := tally(); n != (ledger.Tally{}) {
		t.Fatalf("ahead of the other share: %+v", n)
	}
	a.tell(t, 0, 20*ms, fact.Fact{Kind: fact.Says, Client: 0, Peer: -1, Room: 1, At: 10 * ms, Time: 10 * ms},
		got(0, 11*ms),
		got(2, 13*ms))
	if n := tally(); n.Owed != 4 || n.Delivered != 3 || n.Lost != 0 {
		t.Fatalf("after the other share: %+v", n)
	}
	a.tell(t, 0, 500*ms)
	if n := tally(); n.Lost != 0 {
		t.Fatalf("the grace time is over for one share only: %+v", n)
	}
	a.tell(t, 1, 200*ms, got(3, 109*ms)) // in time, and read late
	a.tell(t, 1, 500*ms)
	if n := tally(); n.Lost != 0 || n.Late != 1 || n.Open() != 0 {
		t.Fatalf("in the end: %+v", n)
	}
}

// TestNonsense: facts about what does not exist end the run with an error.
func TestNonsense(t *testing.T) {
	for name, f := range map[string]fact.Fact{
		"a client":          {Kind: fact.IsGone, Client: 4},
		"a negative client": {Kind: fact.IsGone, Client: -1},
		"a room":            {Kind: fact.Enters, Client: 0, Room: 9},
		"an audience":       {Kind: fact.Says, Client: 0, Room: 1, What: 77},
		"a recipient":       {Kind: fact.Says, Client: 0, Room: 1, Flags: fact.Told, Peer: 40},
		"a number far off":  {Kind: fact.Says, Client: 0, Room: 1, Number: 1 << 30},
		"a check":           {Kind: fact.Checks, Client: 0, Check: 5},
		"an announcement":   {Kind: fact.Announces, Client: 0, Room: 1, What: uint8(ledger.Notice)},
		"an excuse":         {Kind: fact.IsHindered, Client: 0, What: uint8(excuse.Left)},
		"a pardon":          {Kind: fact.Pardons, Client: 0, What: uint8(ledger.NumPardons)},
		"what was reached":  {Kind: fact.Reaches, Client: fact.BeforeAll, Room: 1}, // its text ends too early
		"somebody":          {Kind: fact.Hears, Client: 0, Room: 1, What: uint8(ledger.Gone), Peer: 7},
	} {
		a := twoShares(t)
		f.At = 5 * ms
		for share := range 2 {
			b := fact.Batch{UpTo: 10 * ms}
			if share == 0 {
				b.AddText(f, []byte{2, 0, 200})
			}
			a.Take(share, &b)
		}
		if err := a.Work(); err == nil || !strings.HasPrefix(err.Error(), "account: ") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestBehind: what a share has not read is nobody's loss: if it is too far behind to be
// waited for, or hangs up with something unread. What it had read up to is known.
func TestBehind(t *testing.T) {
	for name, tc := range map[string]struct {
		read   mono.Time // up to which the share has read
		hangUp bool
		lost   int64 // of three that did not come; client 1 is the one that hangs up
	}{
		"in time":                      {read: 500 * ms, lost: 3},
		"behind":                       {read: 60 * ms},
		"hangs up, all read":           {read: 90 * ms, hangUp: true, lost: 3},
		"hangs up, soon after":         {read: 30 * ms, hangUp: true, lost: 2},
		"hangs up, before it was said": {read: 5 * ms, hangUp: true, lost: 2},
	} {
		t.Run(name, func(t *testing.T) {
			a := twoShares(t)
			a.tell(t, 1, 20*ms)
			a.tell(t, 0, 20*ms, fact.Fact{Kind: fact.Says, Client: 0, Peer: -1, Room: 1, At: 10 * ms, Time: 10 * ms},
				fact.Fact{Kind: fact.Gets, Client: 0, Room: 1, At: 11 * ms, Time: 11 * ms})
			a.tell(t, 0, 500*ms)
			b := fact.Batch{UpTo: 500 * ms}
			caught := fact.Fact{Kind: fact.Caught, Client: fact.AfterAll, At: 400 * ms, Time: 500 * ms, Since: tc.read}
			if tc.hangUp {
				b.Add(fact.Fact{Kind: fact.IsHindered, Client: 1, At: 95 * ms, Time: tc.read,
					What: uint8(excuse.HungUp)})
				b.Add(fact.Fact{Kind: fact.IsGone, Client: 1, At: 95 * ms})
				caught.Since = 500 * ms
			}
			b.Add(caught)
			a.Take(1, &b)
			if err := a.Work(); err != nil {
				t.Fatal(err)
			}
			w, err := logbook.Sum([]*logbook.Entry{a.book.Now().Entry()}, nil)
			if err != nil {
				t.Fatal(err)
			}
			if n := w.Total; n.Open() != 0 || n.Delivered != 1 || n.Lost != tc.lost || n.Excused != 3-tc.lost {
				t.Errorf("%+v", n)
			}
		})
	}
}

// TestTold: how long after its eviction others were told of a client counts once, also if they were told
// first; what is kept of clients that left by themselves is bounded.
func TestTold(t *testing.T) {
	a := twoShares(t)
	a.departures = map[ledger.Client]*departure{}
	for n := range ledger.Client(2*maxEarly + 10) {
		a.told(n+10, mono.Time(n))
	}
	kept := 0
	for _, f := range a.departures {
		kept += len(f.early)
	}
	if kept > maxEarly || a.early != kept {
		t.Errorf("%d times are kept, %d counted", kept, a.early)
	}
	a.told(1, 40*ms)
	a.evicted(1, 50*ms)
	a.told(1, 80*ms)
	h := &a.book.Now().Times[logbook.ToTell]
	if h.Count() != 2 || h.Min() != 0 || h.Max() < 29*time.Millisecond {
		t.Errorf("%d times, from %v to %v", h.Count(), h.Min(), h.Max())
	}
}

// TestEvents: no more events are kept than the bound, whatever happens.
func TestEvents(t *testing.T) {
	a := twoShares(t)
	a.recorded = logbook.MaxEvents - 2
	before := len(a.events)
	for range 5 {
		a.happens(1, -1, logbook.Broke, "", 40*ms)
	}
	if n := len(a.events) - before; n != 2 {
		t.Errorf("%d events are kept, where 2 were left", n)
	}
}

// TestHearsOfItself: who enters may be told of it like the others, unless the dialect says that it must
// not be.
func TestHearsOfItself(t *testing.T) {
	for _, forbidden := range []bool{false, true} {
		a := twoShares(t)
		a.trial.Dialect.Joined = trial.Notice{NotItself: forbidden}
		a.announce(1, ledger.Joined, 1, a.now)
		a.hears(&fact.Fact{Client: 1, Peer: 1, What: uint8(ledger.Joined), Time: a.now}, 1)
		a.hears(&fact.Fact{Client: 2, Peer: 1, What: uint8(ledger.Joined), Time: a.now}, 1)
		w, err := logbook.Sum([]*logbook.Entry{a.book.Now().Entry()}, nil)
		if err != nil {
			t.Fatal(err)
		}
		total := w.Total
		if got := a.book.Now().Counts.StrayNews; (got == 1) != forbidden || got > 1 || total.Stray != 0 ||
			total.Delivered != 1 {
			t.Errorf("forbidden %v: %d announced falsely, %+v", forbidden, got, total)
		}
	}
}

// TestRumours: as many announcements as clients squared may come before their cause is known, and each finds
// it, or is the oldest that is judged.
func TestRumours(t *testing.T) {
	var r rumours
	const clients = 400
	for to := range ledger.Client(clients) {
		for about := range ledger.Client(clients) {
			if !r.add(rumour{called: called{ledger.Gone, 1, about}, about: about, to: to, at: mono.Time(to)}) {
				t.Fatalf("no room for the rumour of %d at %d", about, to)
			}
		}
	}
	proved := 0
	for about := range ledger.Client(clients - 1) {
		r.prove(called{ledger.Gone, 1, about}, func(one *rumour) bool {
			proved++
			return one.about == about && one.to != 7
		})
	}
	if proved != clients*(clients-1) || r.due(time.Second) != mono.Time(time.Second) {
		t.Errorf("%d proved, due at %v", proved, r.due(time.Second))
	}
	left := 0
	for r.due(0) < mono.Never {
		if one := r.pop(); !one.proved {
			left++
			if one.to != 7 && one.about != clients-1 {
				t.Fatalf("left is %+v", one)
			}
		}
	}
	if left != 2*clients-1 || len(r.of) != 0 {
		t.Errorf("%d are left, %d known", left, len(r.of))
	}
}

// TestStreams: over one stream that keeps the order of each sender, a message is lost if a later one has come, though
// its recipient left within the grace time; with datagrams, or if clients change routes, it may have been under way.
func TestStreams(t *testing.T) {
	const second = 3 // of the first of two shares, beside what nobody says
	for _, tc := range []struct {
		routes []trial.Route
		lost   int64
	}{{[]trial.Route{{}}, 1}, {[]trial.Route{{}, {}}, 0}, {[]trial.Route{{Kind: trial.OverUDP}}, 0}} {
		a := twoSharesOf(t, trial.Target{Order: ledger.BySender, Routes: tc.routes})
		says := func(number uint64, at mono.Time) fact.Fact {
			return fact.Fact{Kind: fact.Says, Client: 0, Peer: -1, Number: number, Room: 1, At: at, Time: at}
		}
		gets := func(client int32, number uint64) fact.Fact { // the room is the sender's share's
			return fact.Fact{Kind: fact.Gets, Client: client, Number: number, Room: 1, At: 20 * ms, Time: 20 * ms}
		}
		// Both connections are known to last.
		a.tell(t, 0, 9*ms, fact.Fact{Kind: fact.Asks, At: 5 * ms}, fact.Fact{Kind: fact.Enters, At: 6 * ms})
		a.tell(t, 0, 15*ms, says(0, 10*ms), says(second, 12*ms))
		a.tell(t, 1, 30*ms, gets(1, second), gets(3, 0), gets(3, second),
			fact.Fact{Kind: fact.IsGone, Client: 1, At: 25 * ms, Time: 25 * ms})
		a.tell(t, 0, 30*ms, gets(0, 0), gets(0, second), gets(2, 0), gets(2, second))
		for share := range 2 {
			a.tell(t, share, 500*ms)
		}
		w, err := logbook.Sum([]*logbook.Entry{a.book.Now().Entry()}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if l := w.Total; l.Owed != 8 || l.Delivered != 7 || l.Lost != tc.lost || l.Excused != 1-tc.lost {
			t.Errorf("%+v: %+v", tc, l)
		}
	}
}
