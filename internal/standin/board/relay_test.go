package board

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
)

// talk lets every member of a board say some notices and whispers, and gives
// what each heard, and the board.
func talk(t *testing.T, cfg Config, rounds int) (*Board, *ear) {
	t.Helper()
	cfg.Records, cfg.History, cfg.Presence = 100_000, 5, 10*time.Millisecond
	e := &ear{sent: map[int32][]string{}}
	b := New(cfg, e)
	for id := range int32(12) {
		b.Join(id, "")
		b.Message(id, []byte(fmt.Sprintf(`{"kind":"name","name":"pilot-%d"}`, id)), 0)
		b.Message(id, []byte(fmt.Sprintf(`{"kind":"enter","room":"lock-%d"}`, id%2)), 0)
	}
	b.Tick(mono.Time(20 * time.Millisecond))
	e.sent = map[int32][]string{}
	for round := range rounds {
		for id := range int32(12) {
			e.now += 1e6
			b.Message(id, []byte(fmt.Sprintf(`{"kind":"notice","room":"lock-%d","text":"%d from %d <&> here"}`, id%2,
				round, id)), e.now)
			b.Message(id, []byte(fmt.Sprintf(`{"kind":"whisper","to":"pilot-%d","text":"%d to you"}`, (id+1)%12,
				round)), e.now)
		}
	}
	e.now += 1e9
	b.Tick(e.now)
	return b, e
}

// kinds counts what each member heard of a kind.
func count(texts []string, kind string) (n int) {
	for _, s := range texts {
		if strings.Contains(s, `"kind":"`+kind+`"`) {
			n++
		}
	}
	return n
}

// TestEachSwitch throws each switch alone: the board does that wrong, says in
// its truth how often, and does all the rest right.
func TestEachSwitch(t *testing.T) {
	const rounds = 20
	notices, whispers := 12*rounds, 12*rounds
	for name, tc := range map[string]struct {
		s     Switches
		total func(*Totals) int64
		check func(b *Board, e *ear) string
	}{
		"none": {Switches{}, func(*Totals) int64 { return 1 }, nil},
		"wrong echo": {Switches{WrongEcho: 0.3}, func(t *Totals) int64 { return t.WrongEcho },
			func(b *Board, e *ear) string {
				missing := 0
				for id, texts := range e.sent {
					own := 0
					for _, s := range texts {
						if strings.Contains(s, `"kind":"notice"`) &&
							strings.Contains(s, fmt.Sprintf(`"from":"pilot-%d"`, id)) {
							own++
						}
					}
					missing += rounds - own
				}
				return differs(int64(missing), b.Truth.Totals.WrongEcho)
			}},
		"leak":     {Switches{Leak: 0.3}, func(t *Totals) int64 { return t.Misdirected }, nil},
		"overhear": {Switches{Overhear: 0.3}, func(t *Totals) int64 { return t.Misdirected }, nil},
		"reorder": {Switches{Reorder: 0.3}, func(t *Totals) int64 { return t.Reordered },
			func(b *Board, e *ear) string {
				for _, id := range []int32{0, 2, 4} {
					out := 0
					for from := range 12 {
						last := -1
						for _, s := range e.sent[id] {
							var m struct {
								Kind, From string
								Seq        int
							}
							if json.Unmarshal([]byte(s), &m); m.Kind == "notice" &&
								m.From == fmt.Sprintf("pilot-%d", from) {
								if m.Seq < last {
									out++
								}
								last = m.Seq
							}
						}
					}
					if out == 0 {
						return "nobody's messages are out of order"
					}
				}
				return ""
			}},
		"disorder": {Switches{Disorder: 0.1}, func(t *Totals) int64 { return t.Disordered },
			func(b *Board, e *ear) string {
				if strings.Join(onlyNotices(e.sent[0]), "\n") == strings.Join(onlyNotices(e.sent[2]), "\n") {
					return "two members have the same order"
				}
				return ""
			}},
		"alter": {Switches{Alter: 0.3}, func(t *Totals) int64 { return t.Altered }, func(b *Board, e *ear) string {
			n := int64(0)
			for _, texts := range e.sent {
				for _, s := range texts {
					if strings.Contains(s, "&lt;") || strings.HasSuffix(s, ` "}`) {
						n++
					}
					if !json.Valid([]byte(s)) {
						return "it is no JSON any more: " + s
					}
				}
			}
			return differs(n, b.Truth.Totals.Altered)
		}},
		"forget": {Switches{Forget: 0.3}, func(t *Totals) int64 { return t.Forgotten }, func(b *Board, e *ear) string {
			return differs(int64(notices)-b.Truth.Totals.Forgotten, b.Counters().Notices)
		}},
		"too big": {Switches{TooBig: 18}, func(t *Totals) int64 { return t.Swallowed }, func(b *Board, e *ear) string {
			// Texts from "10 from 10" on are longer than 18 bytes.
			return differs(b.Truth.Totals.Notices+b.Truth.Totals.Whispers+b.Truth.Totals.Swallowed,
				int64(notices+whispers))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			b, e := talk(t, Config{Switches: tc.s}, rounds)
			tot := b.Truth.Totals
			if tc.total(&tot) == 0 {
				t.Errorf("it never happened: %+v", tot)
			}
			if tc.check != nil {
				if why := tc.check(b, e); why != "" {
					t.Error(why)
				}
			}
			// Everything that is written was heard, and nothing else.
			heard := int64(0)
			for _, texts := range e.sent {
				heard += int64(count(texts, "notice") + count(texts, "whisper"))
			}
			if heard != tot.Written+tot.Doubled+tot.Misdirected || tot.Due != tot.Written+tot.Lost {
				t.Errorf("heard %d: %+v", heard, tot)
			}
			if name != "wrong echo" && name != "too big" && tot.Written != int64(notices*6+whispers) {
				t.Errorf("written %d, want %d", tot.Written, notices*6+whispers)
			}
		})
	}
}

func differs(got, want int64) string {
	if got != want {
		return fmt.Sprintf("%d, and not %d", got, want)
	}
	return ""
}

func onlyNotices(texts []string) (all []string) {
	for _, s := range texts {
		if strings.Contains(s, `"kind":"notice"`) {
			all = append(all, s)
		}
	}
	return all
}

// TestSwitchNames throws every switch by its name, and refuses what is none.
func TestSwitchNames(t *testing.T) {
	var s Switches
	for _, sw := range SwitchList {
		value := map[string]string{"seed": "7", "hold": "30ms", "too_big": "9", "stall": "1s",
			"cut_idle": "1m", "end_streams": "1m", "slow_store": "1s", "slow_accept": "9", "hoard": "9",
			"crooked": "1s", "dense": "1s", "late_handler": "1s", "slow_join": "1s",
			"standstill": "1s",
			"burst_loss": "9"}[sw.Name]
		if value == "" {
			value = "0.5"
		}
		if err := s.Set(url.Values{sw.Name: {value}}); err != nil {
			t.Errorf("%s: %v", sw.Name, err)
		}
	}
	b, _ := json.Marshal(s)
	if strings.Contains(string(b), ":0,") || strings.Contains(string(b), ":0}") {
		t.Errorf("some switch is not thrown: %s", b)
	}
	before := s
	for query, want := range map[string]string{"lose=1.5": "no probability", "hold=soon": "invalid duration",
		"too_big=-1": "less than 0", "tide=1": "there is no such switch; there are seed, hold",
		"lose=0.1&tide=2": "no such switch"} {
		values, _ := url.ParseQuery(query)
		if err := s.Set(values); err == nil || !strings.Contains(err.Error(), want) || s != before {
			t.Errorf("%s: %v", query, err)
		}
	}
}

// TestDoors: rooms for the harbour master alone, names that may be shared or
// not, a sender that is left out, notices of who comes and goes, and an open
// door.
func TestDoors(t *testing.T) {
	e := &ear{sent: map[int32][]string{}}
	b := New(Config{Denied: []string{"office"}, Notices: true, LeaveOut: true, Share: true}, e)
	b.Join(0, "")
	b.Join(1, Master)
	b.Join(2, "")
	hear := func(id int32, what string) {
		t.Helper()
		for _, s := range e.sent[id] {
			if strings.Contains(s, what) {
				e.sent[id] = nil
				return
			}
		}
		t.Errorf("%d does not hear %s, but %q", id, what, e.sent[id])
	}
	say := func(id int32, s string) { b.Message(id, []byte(s), 0) }
	say(0, `{"kind":"notice","room":"quay","text":"x"}`)
	hear(0, `"why":"say your name first"`)
	say(0, `{"kind":"name","name":"Alder"}`)
	say(2, `{"kind":"name","name":"Alder"}`)
	hear(2, `"kind":"named"`)
	say(1, `{"kind":"name","name":"Birch"}`)
	say(0, `{"kind":"enter","room":"office"}`)
	hear(0, `"why":"only the harbour master enters here"`)
	say(1, `{"kind":"enter","room":"office"}`)
	hear(1, `"kind":"entered"`)
	for id := range int32(3) {
		say(id, `{"kind":"enter","room":"quay"}`)
	}
	hear(0, `{"kind":"joined","room":"quay","name":"Birch"}`)
	e.sent = map[int32][]string{}
	say(0, `{"kind":"notice","room":"quay","text":"turning"}`)
	if count(e.sent[0], "notice") != 0 || count(e.sent[1], "notice") != 1 || count(e.sent[2], "notice") != 1 {
		t.Errorf("with the sender left out: %v", e.sent)
	}
	say(1, `{"kind":"whisper","to":"Alder","text":"both of you"}`)
	if count(e.sent[0], "whisper") != 1 || count(e.sent[2], "whisper") != 1 || count(e.sent[1], "whisper") != 0 {
		t.Errorf("a whisper to two of one name: %v", e.sent)
	}
	b.Part(2)
	hear(0, `{"kind":"gone","room":"quay","name":"Alder"}`)
	say(1, `{"kind":"whisper","to":"Alder","text":"the other is still here"}`)
	hear(0, `the other is still here`)
	b.Upload(0, []byte{0, 255, 7}, 0)
	if len(e.sent[1]) == 0 || !bytes.Equal([]byte(e.sent[1][len(e.sent[1])-1]), []byte{0, 255, 7}) {
		t.Errorf("an upload comes as %q", e.sent[1])
	}
	if seq, refused := b.Publish([]byte(`{"room":"quay","text":"from the office","ref":"r1"}`), 0); seq != 2 ||
		refused != "" {
		t.Errorf("published: %d %s", seq, refused)
	}
	hear(0, `"from":"berth-planner","seq":2,"ref":"r1"`)
	for _, wrong := range []string{`{"room":"nowhere","text":"x"}`, `{"room":"quay"}`, `no JSON`} {
		if _, refused := b.Publish([]byte(wrong), 0); refused == "" {
			t.Errorf("%s is published", wrong)
		}
	}
	b.cfg.Switches.OpenDoor = 1
	b.Join(3, "")
	say(3, `{"kind":"notice","room":"quay","text":"through the open door"}`)
	hear(0, `through the open door`)
	say(0, `{"kind":"enter","room":"office"}`)
	hear(0, `"kind":"entered","room":"office"`)
}
