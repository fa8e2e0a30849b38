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
				Sent: mono.Time(r.Int64N(int64(20 * time.Second)))}
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
