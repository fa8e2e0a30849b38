package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"

	"tidepull/internal/engine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial/language"
)

// fedTrial has clients in one room, some of which speak as fast as they hear themselves.
const fedTrial = `
trial "fed" {
  prompt = "3s"
  grace  = "4s"
}
target "board" { lines = "tcp://127.0.0.1:1" }
session "watch" {
  connect {}
  enter { room = "basin" }
  pause { lasts = "1h" }
}
session "speak" {
  connect {}
  enter { room = "basin" }
  pause { lasts = "1s" }
  repeat {
    closed = true
    say {
      body = { kind = "notice", room = room, from = name, text = "berth 7 is free for the tanker at noon ${mark}" }
    }
    expect "its own" {
      when   = msg.from == name
      within = "1m"
    }
  }
}
crew "watchers" {
  clients = 4000
  session = session.watch
}
crew "speakers" {
  clients = 16
  session = session.speak
}
tide {
  flood "100%" { over = "200ms" }
  slack { lasts = "5s" }
}
`

// fed feeds messages from memory to so many loops, and returns the deliveries that they
// and the account take in a second.
func fed(loops int) (perSecond float64, err error) {
	tr, err := language.Parse([]byte(fedTrial), "fed.trial.hcl", language.Options{})
	if err != nil {
		return 0, err
	}
	board := &fedBoard{}
	var drivers []poll.Driver
	for range loops {
		drivers = append(drivers, board.driver())
	}
	e := engine.New(engine.Config{Trial: tr, Drivers: drivers, Run: 5})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	failed := make(chan error, 1)
	go func() { failed <- e.Run(ctx) }()
	seconds := map[int]float64{}
	owed, delivered, overdue := int64(0), int64(0), int64(0)
	for r := range e.Reports() {
		for _, s := range append(r.Closed, r.Open...) {
			w, err := logbook.Sum([]*logbook.Entry{s}, nil)
			if err != nil {
				return 0, err
			}
			seconds[s.At] = float64(w.Counts.Arrivals)
		}
		for _, s := range r.Closed {
			for _, c := range s.Cells {
				owed = owed + c.Tally.Owed
				delivered += c.Tally.Delivered + c.Tally.Late + c.Tally.Excused
				overdue += c.Tally.Overdue
			}
		}
		if r.Last && owed == 0 {
			return 0, fmt.Errorf("nothing was owed: %v", r.Reasons)
		}
	}
	if err := <-failed; err != nil {
		return 0, err
	}
	if owed != delivered {
		return 0, fmt.Errorf("%d owed, %d delivered, %d came after their grace time", owed, delivered, overdue)
	}
	for s := 2; s < 5; s++ {
		perSecond += seconds[s] / 3
	}
	return perSecond, nil
}

// A scaling is how many deliveries a second one loop, two loops, and two processes with
// a loop each take at the same time: the last is what the machine's cores give.
type scaling struct{ one, two, apart []float64 }

// measure measures it once. Each measurement has a process of its own.
func (s *scaling) measure() error {
	one, err := fedApart(1)
	if err != nil {
		return err
	}
	two, err := fedApart(2)
	if err != nil {
		return err
	}
	apart, err := fedApart(1, 1)
	if err != nil {
		return err
	}
	s.one, s.two, s.apart = append(s.one, one), append(s.two, two), append(s.apart, apart)
	fmt.Printf("  fed from memory: one loop %.2f, two %.2f, two processes %.2f million a second\n", one/1e6, two/1e6,
		apart/1e6)
	return nil
}

// fedApart runs processes side by side, each with so many loops, and adds up what they
// take.
func fedApart(loops ...int) (sum float64, err error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	var running []*exec.Cmd
	var said []*bytes.Buffer
	for _, n := range loops {
		cmd, out := exec.Command(self, "-fed", strconv.Itoa(n)), new(bytes.Buffer)
		cmd.Stdout, cmd.Stderr = out, os.Stderr
		if err := cmd.Start(); err != nil {
			return 0, err
		}
		running, said = append(running, cmd), append(said, out)
	}
	for i, cmd := range running {
		if werr := cmd.Wait(); werr != nil {
			err = errors.Join(err, werr)
			continue
		}
		perSecond, perr := strconv.ParseFloat(strings.TrimSpace(said[i].String()), 64)
		sum, err = sum+perSecond, errors.Join(err, perr)
	}
	return sum, err
}
