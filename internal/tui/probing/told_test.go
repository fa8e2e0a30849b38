package probing

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/capture/probe"
	"tidepull/internal/tui/look"
)

// TestDrawn: a number in the messages is drawn against time, whatever else comes; nothing ends it.
func TestDrawn(t *testing.T) {
	m := Shown(1, "ws://127.0.0.1:7411/live", nil)
	put := func(text string) {
		m.inbox.put(probe.Event{Line: 1, At: time.Unix(int64(len(m.lanes[0].events)), 0), What: probe.In, Op: "text",
			Last: true, Message: []byte(text), Text: text})
		m.Take()
	}
	screen := func() string {
		p := look.NewPalette(true, colorprofile.NoTTY)
		return ansi.Strip(strings.Join(m.View(&p, 80, 40), "\n"))
	}
	put(`{"berth":{"depth":4}}`)
	m.setMode(drawing)
	m.input.SetValue("msg.berth.depth")
	m.enter()
	for i := range 6 {
		put(fmt.Sprintf(`{"berth":{"depth":%d.5}}`, 10*i))
	}
	for _, odd := range []string{`{"berth":{"depth":"7"}}`, `{"berth":7}`, `{`, `{"berth":{"depth":1e999}}`, ""} {
		put(odd)
	}
	got := screen()
	for _, want := range []string{"berth.depth", "7 in 6 s, last 50.5", "   50.5 ", "   0.5 ", "what came and went"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not drawn:\n%s", want, got)
		}
	}
	m.setMode(drawing)
	m.input.SetValue("")
	m.enter()
	if strings.Contains(screen(), "berth.depth") {
		t.Errorf("it is drawn still:\n%s", screen())
	}
}
