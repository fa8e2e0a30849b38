package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
)

// Shapes of tides and of sessions that a healthy server must not be blamed in,
// however crowded the machine is.
var (
	soakTides = []string{
		"flood \"100%\" { over = \"1s\" }\n  slack { lasts = \"4s\" }\n  ebb { over = \"1s\" }",
		"flood \"40%\" { over = \"500ms\" }\n  spike \"100%\" { lasts = \"1s\" }\n  slack { lasts = \"2s\" }\n  " +
			"spike \"100%\" { lasts = \"1s\" }\n  ebb { over = \"500ms\" }",
		"flood \"100%\" { over = \"1s\" }\n  wave {\n    to     = \"40%\"\n    period = \"2s\"\n    times  = 2\n  " +
			"}\n  ebb { over = \"500ms\" }",
		"flood \"100%\" {\n    over  = \"2s\"\n    steps = 3\n  }\n  slack { lasts = \"2s\" }\n  ebb {\n    over  " +
			"= \"1s\"\n    steps = 2\n  }",
		"flood \"100%\" { arrivals = \"80/s\" }\n  slack { lasts = \"3s\" }\n  ebb { over = \"300ms\" }",
	}
	soakSessions = map[string]string{
		"steady": "enter { room = \"lock-${n % 5}\" }\n  repeat {\n    every  = \"400ms\"\n    jitter = " +
			"\"80%\"\n    say { body = { kind = \"notice\", room = room, text = \"turning ${mark}\" } }\n  }",
		"hopping": "repeat {\n    every = \"1s\"\n    enter { room = \"lock-${(n + round) % 4}\" }\n    say { " +
			"body = { kind = \"notice\", room = room, text = mark } }\n    pause { lasts = \"200ms\" }\n    leave " +
			"{}\n  }",
		"poisson": "enter { room = \"lock-${n % 3}\" }\n  repeat {\n    every   = \"500ms\"\n    pattern = " +
			"\"poisson\"\n    say { body = { kind = \"notice\", room = room, text = mark } }\n  }",
		"large": "enter { room = \"lock-${n % 12}\" }\n  repeat {\n    every = \"2s\"\n    say { body = { kind " +
			"= \"notice\", room = room, text = \"${mark} ${filler(65536)}\" } }\n  }",
		"bursts": "enter { room = \"lock-${n % 4}\" }\n  repeat {\n    every = \"2s\"\n    burst = 8\n    say { " +
			"body = { kind = \"notice\", room = room, text = mark } }\n  }",
		"closed": "enter { room = \"lock-${n % 30}\" }\n  repeat {\n    closed = true\n    ask \"who is there\" " +
			"{\n      send = { kind = \"members\", room = room }\n      when = msg.kind == \"members\"\n    }\n    " +
			"pause { lasts = \"100ms\" }\n    say { body = { kind = \"notice\", room = room, text = mark } }\n  }",
		"slow": "enter { room = \"lock-${n % 3}\" }\n  when {\n    that = n % 5 == 0\n    read_slowly { " +
			"bytes_per_second = 20000 }\n    pause { lasts = \"2s\" }\n    read_slowly { bytes_per_second = 0 }\n  " +
			"}\n  repeat {\n    every = \"500ms\"\n    say { body = { kind = \"notice\", room = room, text = " +
			"mark } }\n  }",
		"choices": "enter { room = \"lock-${n % 4}\" }\n  repeat {\n    every = \"300ms\"\n    choose {\n      " +
			"option {\n        weight = 2\n        pause { lasts = \"50ms\" }\n      }\n      option {\n        " +
			"say { body = { kind = \"notice\", room = room, text = mark } }\n      }\n    }\n  }",
		"whispers": "enter { room = \"quay\" }\n  barrier \"all there\" { within = \"4s\" }\n  repeat {\n    every " +
			"= \"300ms\"\n    times = 5\n    whisper {\n      to   = \"pilots-${(n + 1) % 12}\"\n      body = { " +
			"kind = \"whisper\", to = to, text = mark }\n    }\n  }\n  pause { lasts = \"1m\" }",
		"rude": "enter { room = \"lock-${n % 2}\" }\n  repeat {\n    every = \"400ms\"\n    times = 4\n    say " +
			"{ body = { kind = \"notice\", room = room, text = mark } }\n  }\n  when {\n    that = n % 4 == 0\n    " +
			"malformed { what = \"unmasked\" }\n  }\n  when {\n    that = n % 4 == 1\n    vanish {}\n  }",
		"groups": "enter { room = \"group-${group}\" }\n  barrier \"partner\" {\n    among  = \"group\"\n    " +
			"within = \"4s\"\n  }\n  repeat {\n    every = \"300ms\"\n    say { body = { kind = \"notice\", room = " +
			"room, text = mark } }\n  }",
	}
)

// TestSoak runs healthy trials of odd shapes beside busy loops: the server is
// blamed in none of them. SOAK is how many; make soak does 100.
func TestSoak(t *testing.T) {
	count, err := strconv.Atoi(os.Getenv("SOAK"))
	if err != nil {
		t.Skip("make soak runs it")
	}
	var stop atomic.Bool
	defer stop.Store(true)
	for range 2 {
		go func() {
			for n := 0; !stop.Load(); n++ {
			}
		}()
	}
	runtime.GOMAXPROCS(4) // the busy loops have theirs, the test needs one
	names := []string{}
	for name := range soakSessions {
		names = append(names, name)
	}
	blamed, unproven := 0, 0
	for i := range count {
		r := rand.New(rand.NewPCG(uint64(i), 9))
		name := names[i%len(names)]
		clients, tide := 12+r.IntN(60), soakTides[r.IntN(len(soakTides))]
		groups := ""
		switch name {
		case "whispers":
			clients, tide = 12, soakTides[0]
		case "groups":
			groups, tide = "\n  groups_of = 3", soakTides[0]
			clients -= clients % 3
		}
		source := fmt.Sprintf("trial \"soak %d %s\" { seed = %d }\ntarget \"board\" { websocket = "+
			"\"ws://127.0.0.1:1/live\" }\nsession \"s\" {\n  connect {}\n  %s\n}\ncrew \"pilots\" {\n  clients = "+
			"%d\n  session = session.s%s\n}\ntide {\n  %s\n}\n%s%s",
			i, name, i+1, soakSessions[name], clients, groups, tide, noneLost, noneLate)
		path := filepath.Join(t.TempDir(), "soak.trial.hcl")
		if err := os.WriteFile(path, []byte(source), 0o600); err != nil {
			t.Fatal(err)
		}
		t.Run(fmt.Sprintf("%d %s", i, name), func(t *testing.T) {
			text, status := outcome(t, tool(t, "run", path, "--headless", "--target", serveBoard(t)))
			switch status {
			case exitHolds:
			case exitNotProven:
				unproven++
				t.Log(text[strings.Index(text, "verdict: "):])
			default:
				blamed++
				t.Errorf("status %d:\n%s\n%s", status, source, text)
			}
		})
	}
	t.Logf("%d runs: %d blame the server, %d are not proven", count, blamed, unproven)
}
