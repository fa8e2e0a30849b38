package sim_test

import (
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// TestFresh: a trial that is made of samples runs, and finds what a server loses.
func TestFresh(t *testing.T) {
	for shape, a := range map[string]language.Answers{
		"": {Name: `{"kind":"name","name":"<name>"}`, Named: `{"kind":"named","name":"<name>"}`,
			Enter: `{"kind":"enter","room":"<room>"}`, Entered: `{"kind":"entered","room":"<room>","members":3}`,
			Say:      `{"kind":"notice","room":"<room>","text":"<text>"}`,
			Received: `{"kind":"notice","from":"<name>","text":"<text>"}`},
		"text": {Name: "NAME <name>", Named: "NAMED <name>", Enter: "ENTER <room>", Say: "NOTICE <room> <text>",
			Received: "NOTICE <room> <name> 4 <text>"},
		"digits": {Name: `42["name",{"name":"<name>"}]`, Enter: `42["enter",{"room":"<room>"}]`,
			Say:      `42["notice",{"room":"<room>","text":"<text>"}]`,
			Received: `42["notice",{"from":"<name>","text":"<text>"}]`},
	} {
		a.Address = "ws://127.0.0.1:7411/live"
		source := language.Fresh(a)
		cfg := standin.Config{Manners: standin.Manners{Shape: shape}}
		p := playWith(t, source, cfg, board.Switches{})
		clean(t, p)
		if n := p.window.Total.Delivered; n == 0 || n != p.truth.Written {
			t.Errorf("%q: %d delivered, in truth %d\n%v\n%s", shape, n, p.truth.Written, p.reasons, source)
		}
		if p = playWith(t, source, cfg, board.Switches{Seed: 2, Lose: 0.1}); p.window.Total.Lost == 0 {
			t.Errorf("%q: nothing is lost of %d", shape, p.truth.Lost)
		}
		p = playWith(t, source, cfg, board.Switches{Seed: 2, Alter: 0.1})
		if shape == "" && p.window.Total.Altered == 0 {
			t.Errorf("%q: nothing is altered of %d", shape, p.truth.Altered)
		}
	}
}
