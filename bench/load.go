package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// A load is what a measurement puts on the stand-in.
type load struct {
	way
	clients int           // that listen
	rooms   int           // that they are in, in turn; in each one more speaks
	every   time.Duration // from one message of the one that speaks to the next
	silence time.Duration // before the first
	says    bool          // the bare reader beside it has rooms of its own, as many, and says as much in them
	store   string
	names   string // in those of clients: two engines on one server must not share them
}

// plain is the load of the comparison with the bare reader.
func plain(store string) load {
	return load{way: ways[0], clients: clients, rooms: 1, every: 200 * time.Millisecond, silence: 3 * time.Second,
		store: store}
}

// small is the same number of deliveries in rooms of 20.
func small(store string) load {
	l := plain(store)
	l.rooms = clients / 20
	return l
}

// alike is small, beside a bare client that says as much as the engine does: the bare reader leaves that to the engine.
func alike(store string) load {
	l := small(store)
	l.says = true
	return l
}

// readerArgs are the bare reader's beside a load.
func (l *load) readerArgs() []string {
	if !l.says {
		return []string{strconv.Itoa(l.clients), strconv.Itoa(max(1, l.rooms))}
	}
	return []string{strconv.Itoa(l.clients + l.rooms), strconv.Itoa(l.rooms),
		strconv.Itoa(int(l.every.Milliseconds()))}
}

// trialOf writes a trial of a load on the stand-in at an address.
func (b *bencher) trialOf(l load, addr string) (string, error) {
	crew := ""
	if l.clients > 0 {
		crew = fmt.Sprintf("crew \"watchers"+l.names+"\" {\n  clients = %d\n  session = session.watch\n}\n", l.clients)
	}
	// 128 bytes on the wire, as in the design's own measurement.
	source := crew + `
trial "bench" { grace = "5s" }
target "board" {
  ` + strings.ReplaceAll(l.target, "AT", addr) + `
}
session "watch" {
  connect {}
  enter { room = "basin-${n % ` + strconv.Itoa(max(1, l.rooms)) + `}" }
  pause { lasts = "1h" }
}
session "speak" {
  connect {}
  enter { room = "basin-${n % ` + strconv.Itoa(max(1, l.rooms)) + `}" }
  pause { lasts = "` + l.silence.String() + `" }
  repeat {
    every = "` + l.every.String() + `"
    say { body = { kind = "notice", room = room, text = "gauge 3.2 m ${mark}" } }
  }
}
crew "speakers` + l.names + `" {
  clients = ` + strconv.Itoa(max(1, l.rooms)) + `
  session = session.speak
}
tide {
  flood "100%" { over = "5s" }
  slack { lasts = "` + (window + 30*time.Second).String() + `" }
}
`
	path := filepath.Join(b.dir, fmt.Sprintf("bench%s-%d.trial.hcl", l.names, l.clients))
	return path, os.WriteFile(path, []byte(source), 0o666)
}
