package main

import (
	"fmt"
	"os"
	"strings"
	"time"
)

// spreadClients listen to each of two engines that are dealt out differently.
const spreadClients = 2000

// spreads are ways to deal clients out, held against one loop in the process with the account.
var spreads = []struct {
	name  string
	flags []string
}{
	{"two loops", []string{"--loops", "2"}},
	{"one worker", []string{"--workers", "1", "--loops", "1"}},
	{"two workers", []string{"--workers", "2", "--loops", "1"}},
}

// spread lets two engines sit in the same room at the same time, one as it is and one dealt out, and gives what more
// CPU the second takes for each of its deliveries, as a ratio: all its processes together.
func (b *bencher) spread(flags []string) (ratio float64, err error) {
	board, addr, err := b.board()
	if err != nil {
		return 0, err
	}
	defer board.end()
	l := plain("-")
	l.clients, l.every = spreadClients, 100*time.Millisecond
	var engines [2]*process
	for i, more := range [][]string{{"--loops", "1"}, flags} {
		if i == 1 {
			l.names = "-apart"
		}
		path, err := b.trialOf(l, addr)
		if err != nil {
			return 0, err
		}
		args := append([]string{"--store=-", "run", path, "--headless"}, more...)
		if engines[i], err = start(pinned(1, b.tool, args...)); err != nil {
			return 0, err
		}
		defer engines[i].end()
		defer engines[i].cmd.Process.Signal(os.Interrupt)
	}
	if err := flowing(addr, 2*spreadClients); err != nil {
		return 0, err
	}
	us, err := each(addr, engines[0].cmd, engines[1].cmd)
	if err != nil {
		return 0, err
	}
	return us[1] / us[0], nil
}

// growths are numbers of clients; the first is what the others are held against.
var growths = []int{100, 1000, 5000, 19000}

// growth gives what an engine alone takes for each delivery, in microseconds, with each number of clients in one room
// and as many deliveries a second.
func (b *bencher) growth() (us []float64, err error) {
	for _, n := range growths {
		l := plain("-")
		l.clients, l.every = n, time.Duration(n)*40*time.Microsecond // 25,000 deliveries a second
		v, err := b.alone(l)
		if err != nil {
			return nil, fmt.Errorf("%d clients: %w", n, err)
		}
		us = append(us, v)
	}
	return us, nil
}

// alone measures what CPU an engine alone takes for each delivery.
func (b *bencher) alone(l load) (us float64, err error) {
	board, addr, err := b.board()
	if err != nil {
		return 0, err
	}
	defer board.end()
	path, err := b.trialOf(l, addr)
	if err != nil {
		return 0, err
	}
	engine, err := start(pinned(1, b.tool, "--store=-", "run", path, "--headless", "--loops", "1"))
	if err != nil {
		return 0, err
	}
	defer engine.end()
	if err := flowing(addr, float64(l.clients)); err != nil {
		return 0, err
	}
	all, err := each(addr, engine.cmd)
	if err != nil {
		return 0, err
	}
	engine.cmd.Process.Signal(os.Interrupt)
	return all[0], nil
}

// spreadText is the report's part about loops, workers and growth.
func (r *report) spreadText() string {
	var t strings.Builder
	p := func(format string, a ...any) { fmt.Fprintf(&t, format+"\n", a...) }
	p("\nDealt out: two engines in one room on one core, with %d clients each; the one has one loop, the other is "+
		"dealt",
		spreadClients)
	p("out. CPU a delivery of all processes of the second, over that of the first.\n")
	p("| | each round | median |\n| --- | --- | --- |")
	for i, s := range spreads {
		p("| **%s / one loop** | %s | %.2f |", s.name, list(r.spread[i], "%.2f"), median(r.spread[i]))
	}
	p("\nGrowth: an engine alone in one room, with as many deliveries a second whatever the number of clients is.\n")
	p("| clients | CPU a delivery, us, each round | median, over that with %d |\n| --- | --- | --- |", growths[0])
	for i, n := range growths {
		var us, ratio []float64
		for _, round := range r.growth {
			us, ratio = append(us, round[i]), append(ratio, round[i]/round[0])
		}
		p("| %d | %s | %.2f |", n, list(us, "%.2f"), median(ratio))
	}
	return t.String()
}
