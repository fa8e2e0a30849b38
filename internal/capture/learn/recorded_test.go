package learn

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/replay"
	"tidepull/internal/standin"
	"tidepull/internal/trial/language"
)

// TestFromPlan: of two clients that worked together it is found out what each message means, as if they had been told
// what to say: with a history, in any order, and whatever the form of the messages.
func TestFromPlan(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct{ name, shape, sayName, enter, say string }{
		{"JSON", "", `{"kind":"name","name":"<name>"}`, `{"kind":"enter","room":"<room>"}`,
			`{"kind":"notice","room":"<room>","text":"<text>"}`},
		{"digits", "digits", `42["name",{"name":"<name>"}]`, `42["enter",{"room":"<room>"}]`,
			`42["notice",{"room":"<room>","text":"<text>"}]`},
		{"text", "text", "NAME <name>", "ENTER <room>", "NOTICE <room> <text>"},
	} {
		t.Run(tc.name, func(t *testing.T) {
			t.Parallel()
			s, err := standin.Start(standin.Config{Manners: standin.Manners{Shape: tc.shape}})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Stop()
			target := probe.Target{URL: s.URL()}
			want := language.Answers{Address: target.URL, Name: tc.sayName, Enter: tc.enter, Say: tc.say}
			heard, err := Try(context.Background(), target, &want, 300*time.Millisecond)
			if err != nil {
				t.Fatal(err)
			}
			Fill(&want, &Ours, heard)

			var mu sync.Mutex
			var events []probe.Event
			hear := func(e probe.Event) {
				mu.Lock()
				events = append(events, e)
				mu.Unlock()
			}
			lines := []*probe.Line{probe.Dial(1, target, hear), probe.Dial(2, target, hear)}
			do := func(client int, sample, name, room, text string) {
				time.Sleep(300 * time.Millisecond)
				if err := lines[client].Send([]byte(strings.NewReplacer("<name>", name, "<room>", room, "<text>", text).
					Replace(sample)), false); err != nil {
					t.Error(err)
				}
			}
			do(1, tc.sayName, "mo", "", "")
			do(1, tc.enter, "", "quay", "")
			do(0, tc.sayName, "jo", "", "")
			do(0, tc.enter, "", "quay", "")
			do(0, tc.say, "", "quay", "berth three is free")
			do(1, tc.say, "", "quay", "we take it")
			do(0, tc.say, "", "quay", "good")
			time.Sleep(200 * time.Millisecond)
			for _, l := range lines {
				l.Hangup()
			}
			mu.Lock()
			defer mu.Unlock()
			plan, err := replay.Make(probe.Recording(target, events).Concealed(), replay.Options{})
			if err != nil {
				t.Fatal(err)
			}
			got, found, err := FromPlan(plan)
			if err != nil {
				t.Fatal(err)
			}
			want.Others, got.Others = nil, nil
			digits := func(s string) string {
				return strings.Map(func(r rune) rune {
					if r >= '0' && r <= '9' {
						return -1
					}
					return r
				}, s)
			}
			for _, x := range [][3]string{{"address", got.Address, want.Address}, {"name", got.Name, want.Name},
				{"named", got.Named, want.Named}, {"enter", got.Enter, want.Enter}, {"entered", got.Entered,
					want.Entered},
				{"say", got.Say, want.Say}, {"received", got.Received, want.Received},
				{"members", got.Members, want.Members}, {"greeting", got.Greeting, want.Greeting}} {
				if digits(x[1]) != digits(x[2]) || x[0] != "greeting" && x[0] != "named" && x[1] == "" {
					t.Errorf("%s: %q, tried: %q\n%s", x[0], x[1], x[2], strings.Join(found, "\n"))
				}
			}
			if got.Alone != want.Alone {
				t.Errorf("alone: %v", got.Alone)
			}
			if _, err := language.Parse([]byte(language.Fresh(got)), "fresh.trial.hcl",
				language.Options{}); err != nil {
				t.Errorf("%v\n%s", err, language.Fresh(got))
			}
		})
	}
	if _, _, err := FromPlan(&replay.Plan{}); err == nil {
		t.Error("something was learnt of nothing")
	}
}
