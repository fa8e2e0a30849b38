package language

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestTides reads tides and looks at how many of 100 clients there are when.
func TestTides(t *testing.T) {
	for name, tc := range map[string]struct {
		tide string
		at   map[float64]int // by second
	}{
		"arrivals": {"flood \"50%\" { arrivals = \"10/s\" }\n slack { lasts = \"5s\" }",
			map[float64]int{0: 0, 2.5: 25, 5: 50, 9.9: 50, 10.1: 0}},
		"steps": {"flood \"100%\" {\n over = \"10s\"\n steps = 5\n}",
			map[float64]int{0.1: 20, 1.9: 20, 2.1: 40, 9.9: 100}},
		"ebb in steps": {"flood \"100%\" { over = \"1s\" }\n ebb {\n over = \"4s\"\n to = \"20%\"\n steps = 2\n}\n " +
			"slack { lasts = \"1s\" }",
			map[float64]int{0.5: 50, 1.1: 60, 2.9: 60, 3.1: 20, 5.5: 20}},
		"wave": {"flood \"80%\" { over = \"1s\" }\n wave {\n to = \"40%\"\n period = \"4s\"\n times = 2\n}",
			map[float64]int{1: 80, 2: 60, 3: 40, 5: 80, 7: 40, 8.99: 80, 9.1: 0}},
		"spike": {"flood \"10%\" { over = \"1s\" }\n slack { lasts = \"1s\" }\n spike \"100%\" { lasts = \"2s\" " +
			"}\n slack { lasts = \"1s\" }", map[float64]int{1.5: 10, 2.1: 100, 3.9: 100, 4.1: 10, 5.1: 0}},
	} {
		source := fmt.Sprintf(`
trial "t" {}
target "t" { websocket = "ws://127.0.0.1:1/" }
session "s" {
  connect {}
}
crew "a" {
  clients = 100
  session = session.s
}
crew "b" {
  clients = 7
  session = session.s
  tide {
    flood "100%%" { over = "3s" }
  }
}
tide {
  %s
}`, tc.tide)
		tr, err := Parse([]byte(source), "t", Options{})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for second, want := range tc.at {
			at := time.Duration(second * float64(time.Second))
			if got := tr.TideOf(0).Clients(at, 100); got != want {
				t.Errorf("%s at %v: %d clients, want %d", name, at, got, want)
			}
			if got := tr.Planned(at); got != want+tr.Crews[1].Tide.Clients(at, 7) {
				t.Errorf("%s at %v: %d planned in all", name, at, got)
			}
		}
		if most := tr.TideOf(1).Most(7); most != 7 || tr.Length() < 3*time.Second {
			t.Errorf("%s: at most %d of the second crew, %v long", name, most, tr.Length())
		}
	}
	for tide, want := range map[string]string{
		"flood \"50%\" {\n over = \"1s\"\n arrivals = \"3/s\"\n}": "give one of " +
			"over and arrivals",
		"spike \"0%\" { lasts = \"1s\" }": "a spike rises",
		"ebb {\n over = \"1s\"\n}":        "an ebb falls",
		"flood \"10%\" { over = \"1s\" }\n wave {\n to = \"5%\"\n period = \"1s\"\n times = 0\n}": "from 1 to 1000",
		"flood \"10%\" { arrivals = \"3 a second\" }":                                             "is not a rate",
	} {
		_, err := Parse([]byte("trial \"t\" {}\ntarget \"t\" { websocket = \"ws://127.0.0.1:1/\" }\nsession \"s\" "+
			"{\n connect {}\n}\ncrew \"a\" {\n clients = 1\n session = session.s\n}\ntide {\n"+tide+"\n}\n"), "t",
			Options{})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", tide, err, want)
		}
	}
}
