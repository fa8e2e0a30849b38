package finding

import (
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
)

// timed are facts of a run in which messages came as late as told: of which size, due when, in a room of how many.
func timed(messages int, of func(n int) (due, took time.Duration, size, members int)) *Facts {
	f := run40(well)
	f.Kept, f.Rooms = nil, append(f.Rooms, "lock-2")
	for second := range 30 {
		f.Seconds = append(f.Seconds, &logbook.Entry{At: second})
	}
	for n := range messages {
		due, took, size, members := of(n)
		m := ledger.Message{Number: uint64(n), Room: ledger.Room(1 + members/10), Sender: 3, Owed: members, Size: size,
			Due: mono.Time(due), Sent: mono.Time(due)}
		for c := range members {
			m.Outcomes = append(m.Outcomes, ledger.Outcome{Client: ledger.Client(c), Fate: ledger.Delivered,
				Latency: took + time.Duration(c)*time.Microsecond})
		}
		m.Reached = members
		f.Sampled = append(f.Sampled, m)
	}
	f.Total.Counts.Sent = int64(messages)
	return f
}

// atOnce are those of messages that were said at once, 8 of them in a room of 4 and in one of 16, by turns: the one
// that is so many places behind the first came so much later.
func atOnce(later func(place, members int) time.Duration) *Facts {
	return timed(80, func(n int) (due, took time.Duration, size, members int) {
		turn, place := n/8, n%8
		members = []int{4, 16}[turn%2]
		return time.Duration(1+turn)*time.Second + time.Duration(place)*100*time.Microsecond,
			time.Millisecond + later(place, members), 90, members
	})
}

// doubling are those of messages of one client whose text doubles from each to the next, up to 16 KB; one of 1 KB takes
// what is told.
func doubling(took func(kb float64) time.Duration) *Facts {
	return timed(140, func(n int) (time.Duration, time.Duration, int, int) {
		size := 300 << (n % 7)
		return time.Second + time.Duration(n)*130*time.Millisecond, took(float64(size) / 1024), size, 8
	})
}

// atRates are those of a run in whose seconds more and more is said, by turns: half of the deliveries of a second with
// so many messages take longer than told.
func atRates(took func(messages int) time.Duration) *Facts {
	said := func(second int) int { return 10 << (second / 2 % 4) }
	f := bySecond(func(second int, p *logbook.Page) {
		p.Counts.Sent = int64(said(second))
		for range 8 * said(second) {
			p.Delivery(0, 8, took(said(second)), took(said(second)))
		}
	})
	for second, e := range f.Seconds {
		e.Cells = []logbook.CellTally{{Tally: ledger.Tally{Owed: int64(8 * said(second))}}}
	}
	return f
}

// bySecond are facts of a run of which something is told of each second.
func bySecond(tell func(second int, p *logbook.Page)) *Facts {
	f := timed(0, nil)
	for second, e := range f.Seconds {
		page := logbook.NewPage(second, 1)
		tell(second, page)
		*e = *page.Entry()
	}
	return f
}

// standsStill are those of a server that takes 1.3 s for what is said in one second, in which clients say so much.
func standsStill(said int64) *Facts {
	return bySecond(func(second int, p *logbook.Page) {
		last := 3 * time.Millisecond
		if p.Counts.Routes.BytesUp = 4000; second == 17 {
			p.Counts.Routes.BytesUp, last = said, 1300*time.Millisecond
		}
		p.Spread(ledger.Spread{First: last / 2, Median: last / 2, Last: last})
	})
}

// slower are those of a server that is later, once, from when a client reads slowly on.
func slower(before, then time.Duration) *Facts {
	f := bySecond(func(second int, p *logbook.Page) {
		took := before
		if second >= 15 {
			took = then
		}
		for range 10 {
			p.Delivery(0, 8, took+time.Duration(second%3)*time.Millisecond, took)
		}
	})
	f.Trial.Crews = []trial.Crew{{Name: "pilots"}}
	f.Events = append(f.Events, logbook.Event{At: 15 * time.Second, What: logbook.Misbehaved, Client: 3,
		Detail: "reads slowly"})
	return f
}

// TestComparedBySecond: of a server that is slower for a while it is found why, unless it may be something else.
func TestComparedBySecond(t *testing.T) {
	for name, tc := range map[string]struct {
		facts *Facts
		want  []int
	}{
		"it stands still":  {standsStill(5000), []int{41}},
		"much is said":     {standsStill(4 << 20), nil},
		"one reads slowly": {slower(time.Millisecond, 40*time.Millisecond), []int{9}},
		"one reads slowly, and the machine is busy": {slower(10*time.Millisecond, 22*time.Millisecond), nil},
	} {
		var found []int
		for _, x := range Of(tc.facts) {
			found = append(found, x.Weakness)
		}
		if !slices.Equal(found, tc.want) {
			t.Errorf("%s: found %v, want %v", name, found, tc.want)
		}
	}
}

// TestCompared: what is found by comparing is found, what is like it is not, and of both it is told what came of it.
func TestCompared(t *testing.T) {
	inTurn := func(place, _ int) time.Duration { return time.Duration(place) * 8 * time.Millisecond }
	busy := atOnce(inTurn)
	for _, e := range busy.Seconds {
		e.Health.Overload = 1
	}
	polled := atOnce(inTurn)
	polled.Trial.Target.Routes = []trial.Route{{}, {Kind: trial.OverHTTP,
		Habits: &transport.Habits{Mode: transport.LongPolling}}}
	polled.Trial.Crews = []trial.Crew{{}, {Routes: []uint8{1}}}
	unseen := atOnce(inTurn)
	unseen.Total.Counts.Sent++
	filling := atRates(func(said int) time.Duration { return time.Duration(said*said) * 10 * time.Microsecond })
	for _, e := range filling.Seconds {
		e.Cells[0].Tally.Owed *= 1 + e.Counts.Sent/20
	}
	for name, tc := range map[string]struct {
		facts *Facts
		row   int
		found string // "": nothing is
		told  string
	}{
		"one after another": {atOnce(inTurn), 10, "relays at most about 123 messages a second", "whatever the room"},
		"at once":           {atOnce(func(int, int) time.Duration { return 0 }), 10, "", "give or take"},
		// What each recipient takes is no store.
		"one after another, by members": {atOnce(func(place, members int) time.Duration {
			return time.Duration(place*members) * 500 * time.Microsecond
		}), 10, "", "and 8.10 ms in rooms of 16"},
		// The first goes out, and the rest once it is acknowledged.
		"held together": {atOnce(func(place, _ int) time.Duration {
			return time.Duration(min(place, 1)) * 40 * time.Millisecond
		}), 10, "", "give or take"},
		"one after another, and the machine was busy": {busy, 10, "", ""},
		"one after another, and some are not seen":    {unseen, 10, "", ""},
		"one after another, as each is asked for":     {polled, 10, "", "8.10 ms of that"},
		"at any rate": {atRates(func(int) time.Duration { return time.Millisecond }), 10, "",
			"power 0.0 of the rate (between"},
		// It bears no more: that may be as much as it has to.
		"with the square of the rate": {atRates(func(said int) time.Duration {
			return time.Duration(said*said) * 10 * time.Microsecond
		}), 10, "", "power 2.0 of the rate"},
		"at rates, and rooms fill": {filling, 10, "", ""},
		"with the square of the text": {doubling(func(kb float64) time.Duration {
			return time.Millisecond + time.Duration(kb*kb*50)*time.Microsecond
		}), 26, "power 2.0 of the size of the message", "of messages of 16384 to 32767 bytes"},
		"with the text": {doubling(func(kb float64) time.Duration {
			return time.Millisecond + time.Duration(kb)*time.Millisecond
		}), 26, "", "of the size of the message"},
		// What does not fit into a buffer waits until there is room again.
		"a step": {doubling(func(kb float64) time.Duration {
			if kb > 6 {
				return 41 * time.Millisecond
			}
			return time.Millisecond
		}), 26, "", "of the size of the message"},
	} {
		found := Of(tc.facts)
		if is := len(found) == 1 && found[0].Weakness == tc.row; is != (tc.found != "") || is &&
			!strings.Contains(found[0].Says, tc.found) || !is && len(found) > 0 {
			t.Errorf("%s: found %+v", name, found)
		}
		told := strings.Join(Compared(tc.facts)[tc.row], "; ")
		if !strings.Contains(told, tc.told) || tc.told == "" && told != "" {
			t.Errorf("%s: told %q", name, told)
		}
	}
}
