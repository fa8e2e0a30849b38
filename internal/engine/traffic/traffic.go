// Package traffic has the system's own traffic control (tc(8), of iproute2) do what faults do on
// the path of clients: delay, bandwidth, loss and the like of whole packets, so that what TCP
// makes of them shows too. It works in a network namespace of the process's own (Enter), where
// nothing else goes over the network, and which ends with the process.
//
// Each line of a client is known by its local port. Lines to which the same happens share a class
// of a tree of token buckets (HTB), with a queue under it that delays and drops (netem), or that
// has no room at all. Packets find their class by their ports, in tables hashed by the port.
package traffic

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"tidepull/internal/engine/impair"
	"tidepull/internal/trial"
)

// needsNetem reports whether a way needs the queue that delays and drops, which is a module of the
// kernel that not every system has.
func needsNetem(w *trial.Way) bool {
	return !w.Frozen && (w.Delay > 0 || w.Jitter > 0 || w.Lose > 0 || w.Reorder > 0 || w.Corrupt > 0)
}

const up, down = 0, 1

// A tree is what the kernel is told of one direction over one device: which classes there are, and
// which port has which.
type tree struct {
	device  string
	down    bool                 // packets are told by the port that they go to, not by that they come from
	classes map[classKey]*class  // those that some port has
	free    []int                // numbers of classes that are none any more
	next    int                  // the first number that was never one
	ports   map[uint16]place     // by port: where it is
	used    [256]map[uint16]bool // by bucket of the table: the numbers in it
}

// A place is the class that a port is in, and the number that it has in its bucket of the table.
type place struct {
	class  *class
	number uint16
}

// A classKey tells classes apart. Lines share one, unless their bandwidth is bounded: each
// has its own.
type classKey struct {
	way  trial.Way
	port uint16 // 0: shared
}

type class struct {
	key    classKey
	number int // the minor number, from 1
	lines  int
}

func newTree(device string, down bool) *tree {
	t := &tree{device: device, down: down, classes: map[classKey]*class{}, next: 1, ports: map[uint16]place{}}
	for i := range t.used {
		t.used[i] = map[uint16]bool{}
	}
	return t
}

// root is the number of a device's root. Two trees can be on one device: they share it.
const root = "1:"

// begin writes the commands that make a device's root, for packets of both versions of IP, with
// tables of ports that packets go to, and that they come from.
func begin(w io.Writer, device string) {
	fmt.Fprintf(w, "qdisc add dev %s root handle %s htb default 0\n", device, root)
	for i, ip := range protocols {
		for _, dir := range []int{down, up} {
			fmt.Fprintf(w, "filter add dev %s parent %s prio %d handle %x: protocol %s u32 divisor 256\n", device, root,
				i+1, table(i, dir == down), ip.name)
		}
		for _, dir := range []int{down, up} { // the low byte of the port says which bucket
			mask := "0x000000ff"
			if dir == up {
				mask = "0x00ff0000"
			}
			fmt.Fprintf(w, "filter add dev %s parent %s prio %d protocol %s u32 ht 80%d: match u32 0 0 at 0 "+
				"hashkey mask %s at %d link %x:\n", device, root, i+1, ip.name, i, mask, ip.ports,
				table(i, dir == down))
		}
	}
}

// protocols are the versions of IP, and where in a packet the ports are, without options.
var protocols = []struct {
	name  string
	ports int
}{{"ip", 20}, {"ipv6", 40}}

// table is the number of a table of ports.
func table(protocol int, down bool) int {
	n := 2*protocol + 1
	if !down {
		n++
	}
	return n
}

// set writes the commands after which a port has what happens on a way; nothing if the way is
// plain.
func (t *tree) set(w io.Writer, port uint16, way trial.Way) {
	plain := way == (trial.Way{})
	if old, is := t.ports[port]; is {
		if !plain && old.class.key == keyOf(port, way) {
			return
		}
		t.takeOut(w, port, old)
	}
	if !plain {
		t.putIn(w, port, t.class(w, keyOf(port, way)))
	}
}

func keyOf(port uint16, way trial.Way) classKey {
	k := classKey{way: way}
	if way.Rate > 0 {
		k.port = port
	}
	return k
}

// class gives a class, and writes the commands that make it if there is none yet.
func (t *tree) class(w io.Writer, k classKey) *class {
	if c := t.classes[k]; c != nil {
		return c
	}
	c := &class{key: k}
	if n := len(t.free); n > 0 {
		c.number, t.free = t.free[n-1], t.free[:n-1]
	} else {
		c.number = t.next
		t.next++
	}
	t.classes[k] = c
	minor := t.minor(c)
	rate, burst := "100gbit", "burst 64k cburst 64k"
	if k.way.Rate > 0 { // tc's bps are bytes
		rate, burst = fmt.Sprintf("%dbps", k.way.Rate), "burst 2k cburst 2k"
	}
	fmt.Fprintf(w, "class add dev %s parent %s classid 1:%x htb rate %s %s quantum 60000\n", t.device, root, minor,
		rate, burst)
	fmt.Fprintf(w, "qdisc add dev %s parent 1:%x %s\n", t.device, minor, queueOf(&k.way))
	return c
}

// minor is the number of a class on its device: the trees of both directions share those.
func (t *tree) minor(c *class) int {
	if t.down {
		return 2 * c.number
	}
	return 2*c.number + 1
}

// maxPackets is how many packets wait in a queue before more are lost.
const maxPackets = 100_000

// queueOf gives the queue that does what happens on a way.
func queueOf(w *trial.Way) string {
	switch {
	case w.Frozen:
		return "pfifo limit 0"
	case !needsNetem(w):
		return fmt.Sprintf("pfifo limit %d", maxPackets)
	}
	q := fmt.Sprintf("netem limit %d", maxPackets)
	percent := func(p float64) string { return fmt.Sprintf("%.6g%%", 100*p) }
	delay, spread := w.Delay, ""
	switch {
	case w.Jitter == 0:
	case w.Spread == trial.Normal:
		spread = " distribution " + normalTable
	case w.Spread == trial.Exponential:
		spread = " distribution " + exponentialTable
	}
	reorder := ""
	switch {
	case w.Reorder > 0 && delay == 0: // the others go at once
		delay, reorder = impair.ReorderedBy, " reorder "+percent(1-w.Reorder)
	case w.Reorder > 0: // these go at once
		reorder = " reorder " + percent(w.Reorder)
	}
	if delay > 0 || w.Jitter > 0 {
		q += fmt.Sprintf(" delay %dus", delay.Microseconds())
		if w.Jitter > 0 {
			q += fmt.Sprintf(" %dus", w.Jitter.Microseconds()) + spread
		}
	}
	for _, part := range []struct {
		word   string
		chance float64
	}{{"loss", w.Lose}, {"corrupt", w.Corrupt}} {
		if part.chance > 0 {
			q += " " + part.word + " " + percent(part.chance)
		}
	}
	return q + reorder
}

// putIn writes the commands that put a port into a class.
func (t *tree) putIn(w io.Writer, port uint16, c *class) {
	bucket, number := port&0xff, uint16(1)
	for t.used[bucket][number] {
		number++
	}
	t.used[bucket][number] = true
	t.ports[port] = place{c, number}
	c.lines++
	for i, ip := range protocols {
		at := ip.ports
		if t.down {
			at += 2
		}
		fmt.Fprintf(w, "filter add dev %s parent %s prio %d protocol %s handle %s u32 ht %x:%x: match u16 0x%04x "+
			"0xffff at %d flowid 1:%x\n", t.device, root, i+1, ip.name, t.handle(i, port, number), table(i, t.down),
			bucket, port, at, t.minor(c))
	}
}

// takeOut writes the commands that take a port out of its class, and end that if no line has it
// any more.
func (t *tree) takeOut(w io.Writer, port uint16, p place) {
	for i, ip := range protocols {
		fmt.Fprintf(w, "filter del dev %s parent %s prio %d protocol %s handle %s u32\n", t.device, root, i+1, ip.name,
			t.handle(i, port, p.number))
	}
	delete(t.used[port&0xff], p.number)
	delete(t.ports, port)
	if p.class.lines--; p.class.lines == 0 {
		fmt.Fprintf(w, "class del dev %s classid 1:%x\n", t.device, t.minor(p.class))
		delete(t.classes, p.class.key)
		t.free = append(t.free, p.class.number)
	}
}

// handle is what the filter of a port is called: its table, its bucket and its number there.
func (t *tree) handle(protocol int, port, number uint16) string {
	return fmt.Sprintf("%x:%x:%x", table(protocol, t.down), port&0xff, number)
}

// The names of the tables of spreads, which tc reads from files of these names and ".dist".
const (
	normalTable      = "tidepull-normal"
	exponentialTable = "tidepull-exponential"
)

// spreadTable writes a table of how delays are spread as netem wants it (tc-netem(8), and NORMAL in
// iproute2's sources): its values, evenly taken, in 8192ths of the jitter.
func spreadTable(of func(share float64) float64) []byte {
	var b strings.Builder
	const n = 4096
	for i := range n {
		v := of((float64(i) + 0.5) / n)
		fmt.Fprintf(&b, "%d ", int(math.Round(max(-32767, min(32767, 8192*v)))))
		if i%8 == 7 {
			b.WriteByte('\n')
		}
	}
	return []byte(b.String())
}

// normalShare gives the value below which a share of a standard normal distribution is.
func normalShare(share float64) float64 { return math.Sqrt2 * math.Erfinv(2*share-1) }

// exponentialShare gives the value below which a share of an exponential distribution of mean 1 is.
func exponentialShare(share float64) float64 { return -math.Log(1 - share) }

// devices are those of some trees, each once.
func devices(trees [2]*tree) []string {
	return slices.Compact([]string{trees[down].device, trees[up].device})
}
