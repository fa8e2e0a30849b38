package traffic

import (
	"bytes"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tidepull/internal/trial"
)

// A Control is the system's traffic control for the lines of a run. Set may be called from any
// goroutine; one of its own tells the kernel.
type Control struct {
	network Network
	log     *slog.Logger
	folder  string // of the tables of spreads
	netem   bool   // the kernel has the queue that delays and loses packets
	trees   [2]*tree
	lines   map[uint64]uint16 // the port of each line that is impaired

	mu      sync.Mutex
	orders  []order // not yet carried out
	wake    chan struct{}
	closing chan struct{}
	done    chan struct{}
	did     Did
}

// An order is that something else happens to a line from now on.
type order struct {
	line uint64
	port uint16
	ways [2]trial.Way
	at   time.Time
}

// Did is what a Control did.
type Did struct {
	Orders  int           `json:"orders"`     // changes of what happens to a line
	Slowest time.Duration `json:"slowest_ns"` // from an order to the kernel having it, at most
	Dropped int64         `json:"dropped"`    // packets that the kernel dropped
	Error   string        `json:"error"`      // the first thing that it could not be told; "" if there was none
}

// Start makes the system ready to impair what goes over a network of the process's own. netem says
// that a fault needs the queue that delays and drops.
func Start(n Network, netem bool, log *slog.Logger) (*Control, error) {
	if _, err := exec.LookPath("tc"); err != nil {
		return nil, errors.New("faults by the kernel need the command tc (of the package iproute2)")
	}
	folder, err := os.MkdirTemp("", "tidepull-spreads")
	if err != nil {
		return nil, fmt.Errorf("tables for tc: %w", err)
	}
	c := &Control{network: n, log: log, folder: folder, lines: map[uint64]uint16{}, wake: make(chan struct{}, 1),
		closing: make(chan struct{}), done: make(chan struct{})}
	c.trees = [2]*tree{up: newTree(n.Up, false), down: newTree(n.Down, true)}
	for name, of := range map[string]func(float64) float64{normalTable: normalShare,
		exponentialTable: exponentialShare} {
		if err = os.WriteFile(filepath.Join(folder, name+".dist"), spreadTable(of), 0o600); err != nil {
			break
		}
	}
	for _, device := range devices(c.trees) {
		if err == nil {
			var b bytes.Buffer
			begin(&b, device)
			err = c.tell(device, b.Bytes())
		}
	}
	if err == nil {
		if err = c.tell(n.Up, fmt.Appendf(nil, tryNetem, n.Up)); err != nil {
			err = fmt.Errorf("this kernel has no netem, which delays and loses packets (modprobe sch_netem): %w", err)
		}
		if c.netem = err == nil; !netem { // what is done by hand and needs it is done without the kernel
			err = nil
		}
	}
	if err != nil {
		os.RemoveAll(folder)
		return nil, err
	}
	go c.run()
	return c, nil
}

// tryNetem are commands that find out whether there is netem.
const tryNetem = "class add dev %[1]s parent 1: classid 1:fffe htb rate 100gbit quantum 60000\n" +
	"qdisc add dev %[1]s parent 1:fffe netem delay 1ms\n" +
	"class del dev %[1]s classid 1:fffe\n"

// Set has something else happen to a line from now on, over what it says (up) and what it is told
// (down); nothing if both are plain. Port is its own; 0 if it has none any more.
func (c *Control) Set(line uint64, port uint16, whatUp, whatDown trial.Way) {
	c.mu.Lock()
	c.orders = append(c.orders, order{line, port, [2]trial.Way{up: whatUp, down: whatDown}, time.Now()})
	c.mu.Unlock()
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// Close ends it, once all orders are carried out, and says what it did. The network itself ends
// with the process.
func (c *Control) Close() Did {
	close(c.closing)
	<-c.done
	for _, device := range devices(c.trees) {
		c.did.Dropped += c.dropped(device)
	}
	os.RemoveAll(c.folder)
	return c.did
}

func (c *Control) run() {
	defer close(c.done)
	for {
		select {
		case <-c.wake:
			c.carryOut()
		case <-c.closing:
			c.carryOut()
			return
		}
	}
}

// carryOut tells the kernel all that was ordered since the last time.
func (c *Control) carryOut() {
	c.mu.Lock()
	orders := c.orders
	c.orders = nil
	c.mu.Unlock()
	if len(orders) == 0 {
		return
	}
	var commands [2]bytes.Buffer
	for _, o := range orders {
		c.did.Orders++
		old, known := c.lines[o.line]
		plain := o.ways == [2]trial.Way{}
		for dir, t := range c.trees {
			if known && old != o.port {
				t.set(&commands[dir], old, trial.Way{})
			}
			if o.port != 0 && (known && old == o.port || !plain) {
				t.set(&commands[dir], o.port, o.ways[dir])
			}
		}
		if delete(c.lines, o.line); !plain && o.port != 0 {
			c.lines[o.line] = o.port
		}
	}
	for dir, t := range c.trees {
		if commands[dir].Len() == 0 {
			continue
		}
		if err := c.tell(t.device, commands[dir].Bytes()); err != nil {
			c.log.Error("faults by the kernel", "error", err)
			if c.did.Error == "" {
				c.did.Error = err.Error()
			}
		}
	}
	c.did.Slowest = max(c.did.Slowest, time.Since(orders[0].at))
}

// tell gives tc some commands about a device.
func (c *Control) tell(device string, commands []byte) error {
	out, err := c.network.command(device, func() *exec.Cmd {
		cmd := exec.Command("tc", "-force", "-batch", "-")
		cmd.Env = append(os.Environ(), "TC_LIB_DIR="+c.folder)
		cmd.Stdin = bytes.NewReader(commands)
		return cmd
	})
	return wrongOf(string(out), err)
}

// wrongOf is what tc said that is no warning, or how it ended; nil if neither.
func wrongOf(said string, err error) error {
	var wrong []string
	for line := range strings.Lines(strings.TrimSpace(said)) {
		if !strings.HasPrefix(line, "Warning") {
			wrong = append(wrong, strings.TrimSpace(line))
		}
	}
	if err != nil || len(wrong) > 0 {
		return fmt.Errorf("tc: %s (%v)", strings.Join(wrong[:min(3, len(wrong))], "; "), err)
	}
	return nil
}

// dropped is how many packets a device's root and all under it have dropped.
func (c *Control) dropped(device string) (n int64) {
	out, err := c.network.command(device, func() *exec.Cmd {
		return exec.Command("tc", "-s", "qdisc", "show", "dev", device)
	})
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(out), "htb "+root)
	_, rest, _ = strings.Cut(rest, "(dropped ")
	fmt.Sscanf(rest, "%d", &n) // it stays 0 if there is no number
	return n
}
