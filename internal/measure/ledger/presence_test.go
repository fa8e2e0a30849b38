package ledger

import (
	"testing"
	"time"

	"tidepull/internal/base/mono"
)

// TestToldNothing: that a member was told no number is wrong if the server tells those who enter, or promises to tell
// all; of a server that tells those who were there alone it is not.
func TestToldNothing(t *testing.T) {
	for name, tc := range map[string]struct {
		welcomes, updates bool
		wrong             int
	}{
		"tells who was there": {wrong: 0},
		"tells who enters":    {welcomes: true, wrong: 1},
		"promises it":         {updates: true, wrong: 1},
	} {
		wrong := 0
		l := New(Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second, Settle: 2 * time.Second,
			Updates: tc.updates, Presence: func(c Count) {
				if !c.Right() {
					wrong++
				}
			}})
		room := l.Room("quay")
		for c := range Client(4) {
			at := mono.Time(c) * mono.Time(time.Second)
			l.AddClient(0)
			l.Ask(c, room, at)
			l.Enter(c, room, at+1)
			for there := range c {
				l.MembersSaid(there, room, int(c)+1, at+1000)
			}
			if tc.welcomes && c < 3 {
				l.MembersSaid(c, room, int(c)+1, at+1000)
			}
		}
		l.Settle(mono.Time(time.Minute))
		if wrong != tc.wrong {
			t.Errorf("%s: %d are wrong, %d are", name, wrong, tc.wrong)
		}
	}
}
