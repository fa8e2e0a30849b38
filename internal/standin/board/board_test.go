package board

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
)

// An ear is an Out that keeps what it is given, by member.
type ear struct {
	now  mono.Time
	sent map[int32][]string
}

func (e *ear) Frame(dst, payload []byte, _ bool) []byte   { return append(dst, payload...) }
func (e *ear) Send(to int32, frame []byte)                { e.sent[to] = append(e.sent[to], string(frame)) }
func (e *ear) Keep(string, int64, []byte, []byte)         {}
func (e *ear) Close(id int32, code uint16, reason string) {}
func (e *ear) Hangup(id int32)                            {}
func (e *ear) Recall(string, int) []Recalled              { return nil }
func (e *ear) Queued(int32) int                           { return 0 }

func (e *ear) Now() mono.Time { return e.now }

func newBoard(s Switches, members int) (*Board, *ear) {
	e := &ear{sent: map[int32][]string{}}
	b := New(Config{Switches: s, History: 2, Presence: 100 * time.Millisecond, Records: 1000}, e)
	for id := range int32(members) {
		b.Join(id, "")
		b.Message(id, []byte(fmt.Sprintf(`{"kind":"name","name":"pilot-%d"}`, id)), 0)
		b.Message(id, []byte(fmt.Sprintf(`{"kind":"enter","room":"lock-%d"}`, id%2)), 0)
	}
	return b, e
}

func heard(e *ear, kind string) (n int) {
	for _, texts := range e.sent {
		for _, s := range texts {
			if strings.Contains(s, `"kind":"`+kind+`"`) {
				n++
			}
		}
	}
	return n
}

// TestSameFate: which deliveries a switch hits follows from who speaks, how
// often, and to whom; not from the order of things in between, nor from the
// number of the connection.
func TestSameFate(t *testing.T) {
	play := func(seed uint64, backwards bool) map[string]string {
		e := &ear{sent: map[int32][]string{}}
		b := New(Config{Switches: Switches{Seed: seed, Lose: 0.3, Double: 0.3}, Records: 10000}, e)
		const n = 20
		for k := range int32(n) {
			id := k
			if backwards {
				id = n - 1 - k
			}
			b.Join(k, "")
			b.Message(k, []byte(fmt.Sprintf(`{"kind":"name","name":"pilot-%d"}`, id)), 0)
			b.Message(k, []byte(`{"kind":"enter","room":"quay"}`), 0)
		}
		for k := range int32(n) {
			for round := range 5 {
				b.Message(k, []byte(fmt.Sprintf(`{"kind":"notice","room":"quay","text":"%d"}`, round)), 0)
			}
		}
		fates := map[string]string{}
		for _, d := range b.Truth.deliveries {
			m := b.Truth.messages[d.N-1]
			key := fmt.Sprintf("%s %d to %s", m.From, (d.N-1)%5, d.To)
			fates[key] += didNames[d.Did] + " "
		}
		return fates
	}
	a, same, other := play(1, false), play(1, true), play(2, false)
	differ, lost, doubled := 0, 0, 0
	for key, fate := range a {
		if same[key] != fate {
			t.Fatalf("%s: %s, the other way round %s", key, fate, same[key])
		}
		if other[key] != fate {
			differ++
		}
		if fate == "lost " {
			lost++
		}
		if fate == "written doubled " {
			doubled++
		}
	}
	if len(a) != 2000 || differ < 400 {
		t.Errorf("%d deliveries, with another seed %d differ", len(a), differ)
	}
	if lost < 500 || lost > 700 || doubled < 330 || doubled > 520 { // 600, and 420 of those left
		t.Errorf("lost %d of 2000, doubled %d", lost, doubled)
	}
}

// TestHold: a held message comes when its time is over, to who is there then;
// a whisper to somebody who has left comes to nobody, least of all to who has
// the connection now.
func TestHold(t *testing.T) {
	b, e := newBoard(Switches{Hold: 50 * time.Millisecond}, 4)
	e.sent = map[int32][]string{}
	b.Message(0, []byte(`{"kind":"notice","room":"lock-0","text":"held"}`), 0)
	b.Message(0, []byte(`{"kind":"whisper","to":"pilot-3","text":"held too"}`), 0)
	if heard(e, "notice") != 0 || b.Next() != mono.Time(50*time.Millisecond) {
		t.Fatalf("relayed at once, or next is %v", b.Next())
	}
	b.Part(2) // of lock-0
	b.Part(3)
	b.Join(3, "") // a new client under the same number
	e.now = mono.Time(50 * time.Millisecond)
	b.Tick(e.now)
	if heard(e, "notice") != 1 || heard(e, "whisper") != 0 {
		t.Errorf("sent: %v", e.sent)
	}
	if tot := b.Truth.Totals; tot.Due != 1 || tot.Written != 1 || tot.Notices != 1 || tot.Whispers != 1 {
		t.Errorf("%+v", tot)
	}
	if b.Truth.Relay.Min() < 50*time.Millisecond {
		t.Errorf("relayed after %v", b.Truth.Relay.Min())
	}
}

// TestPresence: a crowd is announced once, with the number that holds then.
func TestPresence(t *testing.T) {
	b, e := newBoard(Switches{}, 10)
	b.Part(4)
	if heard(e, "presence") != 0 {
		t.Fatal("announced at once")
	}
	b.Tick(mono.Time(100 * time.Millisecond))
	if got := e.sent[0][len(e.sent[0])-1]; got != `{"kind":"presence","room":"lock-0","members":4}` ||
		heard(e, "presence") != 9 {
		t.Errorf("%s; %d announcements", got, heard(e, "presence"))
	}
	b.Tick(mono.Time(300 * time.Millisecond))
	if heard(e, "presence") != 9 || b.Next() != mono.Never {
		t.Error("announced without a change")
	}
}

// TestTruthIsBounded: the totals go on, the record keeps the newest.
func TestTruthIsBounded(t *testing.T) {
	b, _ := newBoard(Switches{}, 4)
	b.Truth.most = 10
	for i := range 40 {
		b.Message(0, []byte(fmt.Sprintf(`{"kind":"notice","room":"lock-0","text":"%d"}`, i)), 0)
	}
	lines := strings.Split(strings.TrimSpace(string(b.Truth.AppendMessages(nil))), "\n")
	if len(lines) != 10 || !strings.Contains(lines[0], `"n":31,`) || !strings.Contains(lines[9], `"n":40,`) ||
		b.Truth.Totals.Written != 80 {
		t.Errorf("%d lines from %s to %s; %+v", len(lines), lines[0], lines[len(lines)-1], b.Truth.Totals)
	}
	if n := strings.Count(string(b.Truth.AppendDeliveries(nil)), "\n"); n != 10 {
		t.Errorf("%d deliveries", n)
	}
}

func TestSet(t *testing.T) {
	s := Switches{Seed: 3, Lose: 0.5}
	for query, ok := range map[string]bool{"lose=0.1&double=1": true, "misdirect=-0.1": false, "lose=NaN": false,
		"hold=1h&x=1": false, "seed=-1": false} {
		next := s
		v, _ := url.ParseQuery(query)
		if err := next.Set(v); (err == nil) != ok || !ok && next != s {
			t.Errorf("%s: %v, %+v", query, err, next)
		}
	}
}

func FuzzMessage(f *testing.F) {
	f.Add([]byte(`{"kind":"notice","room":"lock-0","text":"a"}`))
	f.Add([]byte(`{"kind":"whisper","to":"pilot-1","text":"\u0000"}`))
	f.Add([]byte(`{"kind":"enter","room":["lock"]}`))
	f.Add([]byte(`[[[`))
	f.Fuzz(func(t *testing.T, payload []byte) {
		b, e := newBoard(Switches{Lose: 0.2, Double: 0.2, Misdirect: 0.2, Hold: time.Millisecond}, 6)
		for id := range int32(6) {
			b.Message(id, payload, 0)
		}
		e.now = mono.Time(time.Second)
		b.Tick(e.now)
		for id := range int32(6) {
			b.Part(id)
		}
		if t0 := b.Truth.Totals; t0.Here != 0 || t0.Due != t0.Written+t0.Lost {
			t.Fatalf("%+v", t0)
		}
	})
}
