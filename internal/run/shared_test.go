package run

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// TestInCommon loses deliveries of a made-up run by a rule, and finds the rule; of those that are lost by chance it
// says nothing.
func TestInCommon(t *testing.T) {
	type message = *ledger.Message
	type losing func(m message, to ledger.Client, since time.Duration, r *rand.Rand) bool
	for want, isLost := range map[string]losing{
		"lost: the recipient is the sender": func(m message, to ledger.Client, _ time.Duration, _ *rand.Rand) bool {
			return to == m.Sender
		},
		"lost: said within 25.0 ms after the recipient entered the room": func(_ message, _ ledger.Client,
			since time.Duration, _ *rand.Rand) bool {
			return since < 25*time.Millisecond
		},
		"lost: they are announcements of who leaves": func(m message, _ ledger.Client, _ time.Duration,
			_ *rand.Rand) bool {
			return m.Kind == ledger.Gone
		},
		"lost: in lock-3": func(m message, _ ledger.Client, _ time.Duration, r *rand.Rand) bool {
			return m.Room == 3 && r.IntN(4) == 0
		},
		"lost: the recipient is at node 2": func(_ message, to ledger.Client, _ time.Duration, r *rand.Rand) bool {
			return to%3 == 1 && r.IntN(9) == 0
		},
		"lost: of 1,000 bytes or more": func(m message, _ ledger.Client, _ time.Duration, r *rand.Rand) bool {
			return m.Size > 990 && r.IntN(3) == 0
		},
		"lost: they hold characters above U+FFFF": func(m message, _ ledger.Client, _ time.Duration,
			r *rand.Rand) bool {
			return m.Traits&ledger.Beyond16 != 0 && r.IntN(3) == 0
		},
		"lost: they are the sender's first message of a connection": func(m message, _ ledger.Client,
			_ time.Duration, _ *rand.Rand) bool {
			return m.Nth == 1
		},
		"lost: every 4.00 s, at 0:02, 0:06, 0:10, 0:14, 0:18": func(m message, _ ledger.Client,
			_ time.Duration, _ *rand.Rand) bool {
			return (time.Duration(m.Sent)-2*time.Second)%(4*time.Second) < 300*time.Millisecond
		},
		"": func(_ message, _ ledger.Client, _ time.Duration, r *rand.Rand) bool { return r.IntN(40) == 0 },
	} {
		s := &Snapshot{Trial: &trial.Trial{Crews: []trial.Crew{{Name: "pilots", Clients: 60}}},
			Rooms: []string{"everyone", "lock-1", "lock-2", "lock-3", "lock-4"}}
		s.Trial.Target.Nodes = []string{"a", "b", "c"}
		entered := make([]time.Duration, 60)
		r := rand.New(rand.NewPCG(1, 1))
		for c := range ledger.Client(60) {
			s.Names = append(s.Names, fmt.Sprintf("pilot-%d", c))
			entered[c] = time.Duration(c) * 301 * time.Millisecond
			s.Events = append(s.Events,
				logbook.Event{At: entered[c] - 2*time.Millisecond, Client: c, What: logbook.Opened},
				logbook.Event{At: entered[c], Client: c, Room: ledger.Room(1 + c%4), What: logbook.Entered})
		}
		for n := range 4000 {
			m := ledger.Message{Number: uint64(n), Sender: r.Int32N(60),
				Sent: mono.Time(2*time.Second) + mono.Time(r.Int64N(int64(18*time.Second))),
				Nth:  1 + r.IntN(30), Size: 100 + 30*r.IntN(31), Traits: ledger.Described}
			if m.Size += r.IntN(9); m.Sender%7 == 0 && r.IntN(3) == 0 {
				m.Traits |= ledger.Beyond16
			}
			if m.Traits&ledger.Beyond16 != 0 || r.IntN(2) == 0 {
				m.Traits |= ledger.BeyondASCII
			}
			if m.Room = 1 + m.Sender%4; r.IntN(10) == 0 {
				m.Kind = ledger.Gone
			}
			for to := ledger.Client(m.Room) - 1; to < 60; to += 4 {
				since := time.Duration(m.Sent) - entered[to]
				if since < 0 {
					continue
				}
				o := ledger.Outcome{Client: to, Latency: time.Millisecond}
				if isLost(&m, to, since, r) {
					o.Fate = ledger.Lost
					m.Lost++
				}
				m.Outcomes = append(m.Outcomes, o)
			}
			switch {
			case m.Lost > 0 && len(s.Kept) < 300:
				s.Kept = append(s.Kept, m)
			case m.Lost > 0:
				s.Unkept++
			case n%20 == 0:
				s.Sampled = append(s.Sampled, m)
			}
		}
		got := ""
		for _, c := range s.InCommon() {
			got += strings.Replace(c.Says, " of the first that are", "", 1)
		}
		if (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("wanted %q: %q, of %d messages", want, got, len(s.Kept))
		}
	}
}

// TestEventsInCommon breaks connections of a made-up run by a rule, and finds it.
func TestEventsInCommon(t *testing.T) {
	for want, breaksAt := range map[string]func(c ledger.Client, r *rand.Rand) time.Duration{
		"all 20 broken: at once, at 0:19.000, and the client is at node 2": func(c ledger.Client,
			_ *rand.Rand) time.Duration {
			if c%3 != 1 {
				return 0
			}
			return 19 * time.Second
		},
		"all 60 broken: 10.0 s to 10.1 s after the client connected": func(c ledger.Client,
			r *rand.Rand) time.Duration {
			return time.Duration(c)*101*time.Millisecond + 10*time.Second + time.Duration(r.IntN(90))*time.Millisecond
		},
		"": func(_ ledger.Client, r *rand.Rand) time.Duration {
			return time.Duration(7+r.IntN(23)) * time.Second * time.Duration(r.IntN(2))
		},
	} {
		s := &Snapshot{Trial: &trial.Trial{Crews: []trial.Crew{{Name: "pilots", Clients: 60}}},
			Elapsed:    40 * time.Second,
			Judgements: []Judgement{{Limit: trial.Limit{Figure: "clients.broken"}, Verdict: Broken}}}
		s.Trial.Target.Nodes = []string{"a", "b", "c"}
		r := rand.New(rand.NewPCG(4, 4))
		for c := range ledger.Client(60) {
			s.Names = append(s.Names, fmt.Sprintf("pilot-%d", c))
			s.Events = append(s.Events, logbook.Event{At: time.Duration(c) * 101 * time.Millisecond, Client: c,
				Room: -1,
				What: logbook.Opened})
			if at := breaksAt(c, r); at > 0 {
				s.Events = append(s.Events, logbook.Event{At: at, Client: c, Room: -1, What: logbook.Broke})
			}
		}
		s.Judgements = append(s.Judgements, Judgement{Limit: trial.Limit{Figure: "clients.refused"}, Verdict: Broken})
		got := ""
		for _, c := range s.InCommon() { // nobody is refused, although some should be
			got += c.Says + "; "
		}
		if (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("wanted %q: %q", want, got)
		}
	}
}
