package finding

import (
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
