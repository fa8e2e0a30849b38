package eventstream

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

func read(t *testing.T, stream string, step int) (events []string, r *Reader) {
	t.Helper()
	r = &Reader{}
	for b := []byte(stream); len(b) > 0; {
		n := min(step, len(b))
		if err := r.Feed(b[:n], func(e Event) {
			events = append(events,
				fmt.Sprintf("%s/%s/%s", e.Name, e.ID, e.Data))
		}); err != nil {
			t.Fatal(err)
		}
		b = b[n:]
	}
	return events, r
}

// TestStandard: the examples of WHATWG HTML 9.2.6, with each kind of line end, cut
// anywhere.
func TestStandard(t *testing.T) {
	for stream, want := range map[string][]string{
		"data: YHOO\ndata: +2\ndata: 10\n\n": {"//YHOO\n+2\n10"},
		": test stream\n\ndata: first event\nid: 1\n\ndata:second event\nid\n\ndata:  third event\n\n": {
			"/1/first event", "//second event", "// third event"},
		"data\n\ndata\ndata\n\ndata:": {"//", "//\n"},
		"data:test\n\ndata: test\n\n": {"//test", "//test"},
		"event: add\ndata: 73857293\n\nevent: remove\ndata: 2153\n\ndata: x\n\n": {"add//73857293", "remove//2153",
			"//x"},
		"\ufeffdata: after a mark\n\n":                                      {"//after a mark"},
		"id: a\x00b\ndata: x\n\nevent: none\n\nunknown: field\ndata: y\n\n": {"//x", "//y"},
		"retry: 1500\nretry: soon\ndata: never ended":                       nil,
	} {
		for _, ends := range []string{"\n", "\r\n", "\r"} {
			text := strings.ReplaceAll(stream, "\n", ends)
			for _, step := range []int{1, 2, 3, 7, 1000} {
				got, r := read(t, text, step)
				if !slices.Equal(got, want) {
					t.Errorf("%q in pieces of %d: %q, want %q", text, step, got, want)
				}
				if strings.HasPrefix(stream, "retry") && r.Retry != 1500*time.Millisecond {
					t.Errorf("come back after %v", r.Retry)
				}
			}
		}
	}
	r := &Reader{}
	if err := r.Feed([]byte("data: "+strings.Repeat("x", maxEvent)), func(Event) {}); err == nil {
		t.Error("an event without end is taken")
	}
}

// FuzzReader: nothing that a server sends does harm, and where it is cut does not
// matter.
func FuzzReader(f *testing.F) {
	f.Add("data: a\n\nid: 1\rdata: b\r\n\r\n", uint8(1))
	f.Fuzz(func(t *testing.T, stream string, step uint8) {
		cut, _ := read(t, stream, int(step)+1)
		if whole, _ := read(t, stream, 1<<30); !slices.Equal(cut, whole) {
			t.Errorf("cut %q, whole %q", cut, whole)
		}
	})
}
