package main

import (
	"fmt"
	"os"
	"strings"
	"time"
)

// A way is a transport that clients come over.
type way struct {
	name   string
	target string   // of the trial, with AT for the stand-in's address
	board  []string // flags of the stand-in
	slow   bool     // each delivery has a request of its own: fewer messages are said
}

// every is the time from one message to the next.
func (w *way) every() time.Duration {
	if w.slow {
		return 400 * time.Millisecond
	}
	return 100 * time.Millisecond
}

// ways are the transports that are compared. The first is what the others are measured by.
var ways = []way{
	{name: "WebSocket", target: `websocket = "ws://AT/live"`},
	{name: "WebSocket, compressed", target: "websocket = \"ws://AT/live\"\n  deflate = true",
		board: []string{"--deflate"}},
	{name: "WebSocket over TLS", target: "websocket = \"wss://AT/live\"\n  tls { insecure = true }",
		board: []string{"--tls"}},
	{name: "event stream", target: `events = "http://AT/events?client=${name}"`},
	{name: "answer without end", target: `stream = "http://AT/lines?client=${name}"`},
	{name: "long polling", target: `polling = "http://AT/poll?client=${name}"`, slow: true},
	{name: "asking each second", target: "polling = \"http://AT/poll?client=${name}\"\n  every = \"1s\"", slow: true},
	{name: "TCP lines", target: `lines = "tcp://AT"`},
	{name: "UDP datagrams", target: `udp = "udp://AT"`},
}

// wayClients are in a comparison of transports, and as many bare readers beside them.
const wayClients = 2000

// A cost is what a transport costs the tool.
type cost struct {
	bare, engine []float64 // microseconds of CPU a delivery
	idle         float64   // bytes a client
}

// transports measures each transport once, in turn.
func (b *bencher) transports(costs []cost) error {
	for i, w := range ways {
		bare, engine, err := b.beside(load{way: w, clients: wayClients, every: w.every(), silence: 3 * time.Second,
			store: "-"})
		if err != nil {
			return fmt.Errorf("%s: %w", w.name, err)
		}
		c := &costs[i]
		c.bare, c.engine = append(c.bare, bare), append(c.engine, engine)
		fmt.Printf("  %s: bare %.2f us, engine %.2f us a delivery: %.2f\n", w.name, bare, engine, engine/bare)
	}
	return nil
}

// idle measures the memory of a client that waits, over each transport: the process with
// many of them less the process with few.
func (b *bencher) idle(costs []cost) error {
	for i, w := range ways {
		var used [2]float64
		for k, n := range []int{10, wayClients} {
			board, p, _, err := b.connected(load{way: w, clients: n, every: w.every(), silence: time.Minute})
			if err != nil {
				return fmt.Errorf("%s: %w", w.name, err)
			}
			used[k] = resident(p.cmd.Process.Pid)
			p.cmd.Process.Signal(os.Interrupt)
			p.end()
			board.end()
		}
		costs[i].idle = (used[1] - used[0]) / (wayClients - 10)
		fmt.Printf("  %s: %.1f KB an idle client\n", w.name, costs[i].idle/1000)
	}
	return nil
}

// transportsText is the part of the report that is about transports.
func transportsText(costs []cost) string {
	var t strings.Builder
	fmt.Fprintf(&t, "\nTransports: %d clients over each in turn, beside as many of the bare reader (over WebSocket) "+
		"in "+
		"the same\nroom, ten messages a second; for the two that ask, two and a half: there a delivery has a request\n"+
		"and an answer of its own, or a part in them. What the tool does each second, whatever comes, is in it: at\n"+
		"a quarter of the deliveries it weighs four times as much. Memory is that of a client that waits.\n\n",
		wayClients)
	fmt.Fprintln(&t, "| transport | CPU a delivery, us | bare reader beside it, us | ratio, each round | median | "+
		"an idle client, KB |\n| --- | --- | --- | --- | --- | --- |")
	for i, w := range ways {
		c := costs[i]
		r := ratios(c.engine, c.bare)
		fmt.Fprintf(&t, "| %s | %.2f | %.2f | %s | **%.2f** | %.1f |\n", w.name, median(c.engine), median(c.bare),
			list(r, "%.2f"), median(r), c.idle/1000)
	}
	return t.String()
}
