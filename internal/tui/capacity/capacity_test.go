package capacity

import (
	"math"
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	search "tidepull/internal/capacity"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/tui/look"
)

// TestFits: whatever a search has found, it fits every screen, and no text of the server's acts on the terminal.
func TestFits(t *testing.T) {
	p := look.NewPalette(true, colorprofile.TrueColor)
	hostile := "\x1b[2J\a" + strings.Repeat("宽", 90) + "\n\t" + strings.Repeat("x", 300)
	states := map[string]*State{
		"empty": {Of: "clients"},
		"first": {Of: "clients", Load: 8, Run: &run.Snapshot{Trial: &trial.Trial{}, Total: &logbook.Window{}}},
		"over": {Of: hostile, Over: true, Says: []string{hostile, hostile}, Fit: &search.Fit{At: 90, Low: 0,
			High: math.Inf(1), Spread: 0}},
	}
	many := &State{Of: "clients", Load: 1e9, Fit: &search.Fit{At: 95, Low: 80, High: 110, Spread: 0.1},
		Says: []string{"bears 95 clients"}}
	for i := range 80 {
		many.Tries = append(many.Tries, Try{Load: math.Exp(float64(i%9)) / 10, Example: hostile, Why: hostile,
			Verdict: []run.Verdict{run.Broken, run.Holds, run.NotProven}[i%3]})
	}
	states["many"] = many
	for name, s := range states {
		for width := 60; width < 220; width += 7 {
			for height := 16; height < 60; height += 3 {
				var m Model
				m.Move(3, s)
				lines := m.View(&p, s, width, height)
				if len(lines) > height {
					t.Fatalf("%s at %d x %d: %d lines", name, width, height, len(lines))
				}
				for _, l := range lines {
					if ansi.StringWidth(l) > width || strings.ContainsAny(ansi.Strip(l), "\x1b\a\n\t") {
						t.Fatalf("%s at %d x %d: %q", name, width, height, l)
					}
				}
			}
		}
	}
	// The curve goes up from none to all, and passes half of them at the capacity.
	var m Model
	text := ansi.Strip(strings.Join(m.View(&p, many, 120, 40), "\n"))
	for _, says := range []string{"■ broke", "▲ held", "╳ not proven", "bears 95 clients"} {
		if !strings.Contains(text, says) {
			t.Errorf("%q is not in\n%s", says, text)
		}
	}
}

// TestKeepsStill: the cursor stays on its window while others are added, and on the newest if it was there.
func TestKeepsStill(t *testing.T) {
	s := &State{Tries: make([]Try, 5)}
	var m Model
	m.Added(1)
	if m.back != 0 {
		t.Error("it left the newest")
	}
	m.Move(2, s)
	if m.Added(1); m.back != 3 {
		t.Errorf("%d windows back, and not 3", m.back)
	}
	if m.Move(99, s); m.back != 4 {
		t.Errorf("it is %d windows back of 5", m.back)
	}
}
