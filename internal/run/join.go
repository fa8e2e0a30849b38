package run

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/engine/clocks"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/workers"
)

// Joining says what a machine offers.
type Joining struct {
	Address workers.Address
	Name    string
	Version string
	Clients int      // how many it carries; 0: what its limits allow
	Agrees  []string // the targets that it loads, as HOST:PORT or HOST
	Skew    clocks.Skew
	Tool    string // the program that workers are; "": this one
	Log     *slog.Logger
	Tell    func(text string) // what goes on, for people
}

// An Own is what a worker knows of the machine that it is on, if that is not its lead's.
type Own struct {
	Course io.Reader // lines with the courses of its clock (clocks.Course as JSON); nil: it has the lead's clock
	Agrees []string  // the targets that the machine loads; nil: all

	courses *json.Decoder // of Course
	by      atomic.Int64  // how much the clock may be off the lead's, in nanoseconds
}

// off says by how much the clock of each share may be off the lead's; nil: they have the same.
func (o *Own) off() func(int) time.Duration {
	if o.Course == nil {
		return nil
	}
	return func(int) time.Duration { return time.Duration(o.by.Load()) }
}

// WaitForCourse takes the first course: until then nothing is done that depends on the time.
func (o *Own) WaitForCourse() error {
	o.courses = json.NewDecoder(o.Course)
	if err := o.next(); err != nil {
		return fmt.Errorf("the machine's clock: %w", err)
	}
	return nil
}

// next takes the next course.
func (o *Own) next() error {
	var c clocks.Course
	if err := o.courses.Decode(&c); err != nil {
		return err
	}
	machine.Follow(c.Here, c.There, c.Rate)
	o.by.Store(int64(c.Off))
	return nil
}

// follow takes the courses that come, until there are no more.
func (o *Own) follow() {
	for o.next() == nil { // then its input has ended, and so does the worker
	}
}

// agrees reports whether a machine loads the places of a trial.
func (o *Own) agrees(to *places) error {
	if o.Agrees == nil {
		return nil
	}
	for _, at := range to.served() {
		if !slices.ContainsFunc(o.Agrees, func(a string) bool { return covers(a, at) }) {
			return fmt.Errorf("this machine agreed to load %s, and not %s: start tidepull join with --agree %s there",
				strings.Join(o.Agrees, ", "), at, at)
		}
	}
	return nil
}

// covers reports whether a target that a machine agreed to load is at an address: a host with a port, or any port of
// one.
func covers(agreed string, at netip.AddrPort) bool {
	host, port, err := net.SplitHostPort(agreed)
	if err != nil {
		host, port = strings.Trim(agreed, "[]"), ""
	}
	if port != "" && port != strconv.Itoa(int(at.Port())) {
		return false
	}
	ips, err := net.LookupIP(host)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(ips, func(ip net.IP) bool {
		a, ok := netip.AddrFromSlice(ip)
		return ok && a.Unmap() == at.Addr().Unmap()
	})
}

// carries is how many clients this machine can have, by what it says of itself, and in how many processes: one for each
// core.
func (j *Joining) carries() (clients, processes int) {
	processes = max(1, runtime.NumCPU())
	files := machine.RaiseFileLimit()
	most := mostOfMachine
	if files > machine.SpareFiles {
		most = min(most, processes*(files-machine.SpareFiles))
	}
	if j.Clients > 0 {
		most = min(most, j.Clients)
	}
	system := os.DirFS("/")
	return sort.Search(most, func(n int) bool { // the first n that one more is too many for
		return slices.ContainsFunc(machine.Checks(system, files, machine.Need{Sockets: n + 1, Workers: processes}),
			func(c machine.Check) bool { return c.State == machine.Hinders })
	}), processes
}

// mostOfMachine bounds the clients of one machine, whatever it says of itself.
const mostOfMachine = 1 << 20

// A joined is a machine that has joined.
type joined struct {
	Joining
	agent *workers.Agent
	mu    sync.Mutex // all below
	run   string     // that it serves; "": none
	own   map[int]started
	end   context.CancelFunc // of the run's clock
}

// Join offers this machine to who leads runs, until the context ends. It waits for the NATS server to be there.
func Join(ctx context.Context, j Joining) error {
	m := &joined{Joining: j, own: map[int]started{}}
	id := rand.Text()
	for said := false; ; {
		agent, err := workers.NewAgent(&j.Address, id)
		if err == nil {
			said = false
			m.agent = agent
			clients, processes := m.carries()
			j.Tell(fmt.Sprintf("joined %s: %d clients in up to %d processes; waiting for a run", j.Address.URL, clients,
				processes))
			err = agent.Serve(ctx, m.offer, m.hire, m.release)
			m.drop("the NATS server is gone")
			agent.Close()
		} else if workers.Hopeless(err) {
			return err
		}
		if ctx.Err() != nil {
			return nil
		}
		if !said {
			said = true
			j.Tell(fmt.Sprintf("waiting for %s: %s", j.Address.URL, plain.Text(fmt.Sprint(err), 200)))
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return nil
		}
	}
}

func (m *joined) offer() workers.Offer {
	clients, processes := m.carries()
	m.mu.Lock()
	defer m.mu.Unlock()
	return workers.Offer{ID: m.agent.ID, Name: m.Name, Version: m.Version, Clients: clients, Workers: processes,
		Agrees: m.Agrees, Busy: m.run != ""}
}

// hire starts workers for a run, which follow its clock.
func (m *joined) hire(h workers.Hiring) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.run != "" {
		return errors.New("it serves another run")
	}
	_, most := m.carries()
	if len(h.Workers) == 0 || len(h.Workers) > most || len(h.Secret) != len(clocks.Secret{}) || !plainWord(h.Run) {
		return errors.New("what the lead wants makes no sense here")
	}
	tool, err := (&Options{Tool: m.Tool}).tool()
	if err != nil {
		return err
	}
	at, err := json.Marshal(m.Address)
	if err != nil {
		return err
	}
	ctx, end := context.WithCancel(context.Background())
	m.run, m.end = h.Run, end
	flags := []string{"--follow"}
	for _, a := range m.Agrees {
		flags = append(flags, "--agree", a)
	}
	for _, number := range h.Workers {
		w, err := startWorker(tool, at, h.Run, number, flags, func(why string) { m.ended(h.Run, number, why) })
		if err != nil {
			go m.drop("not all workers could be started")
			return fmt.Errorf("starting worker %d: %w", number, err)
		}
		m.own[number] = w
	}
	m.Tell(fmt.Sprintf("serves a run with %d processes", len(h.Workers)))
	go m.follow(ctx, h)
	return nil
}

// plainWord reports whether a text is one word of letters and digits.
func plainWord(s string) bool {
	return s != "" && len(s) < 64 && !strings.ContainsFunc(s, func(r rune) bool {
		return (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') && (r < '0' || r > '9')
	})
}

// follow tells the workers the course of the lead's clock.
func (m *joined) follow(ctx context.Context, h workers.Hiring) {
	err := m.watchClock(ctx, h, func(c clocks.Course) error {
		b, err := json.Marshal(c)
		if err != nil {
			return err
		}
		m.mu.Lock()
		defer m.mu.Unlock()
		for _, w := range m.own {
			_, _ = w.input.Write(append(b, '\n')) // one that has ended needs no clock
		}
		return nil
	})
	if err != nil {
		m.Log.Error("the lead's clock", "error", err)
		m.Tell(plain.Text(err.Error(), 200))
		m.drop(err.Error())
	}
}

// watchClock asks for the lead's clock directly, if one of its addresses answers, and over NATS otherwise.
func (m *joined) watchClock(ctx context.Context, h workers.Hiring, tell func(clocks.Course) error) error {
	skew := m.Skew
	skew.Since = machine.Own()
	var secret clocks.Secret
	copy(secret[:], h.Secret)
	ask := func(within time.Duration) (x clocks.Exchange, ok bool) {
		x.Sent = skew.Of(machine.Own())
		x.Received, x.Answered, ok = m.agent.AskClock(h.Run, within)
		x.Back = skew.Of(machine.Own())
		return x, ok
	}
	way := "over NATS"
	for _, text := range h.Clock {
		at, err := netip.ParseAddrPort(text)
		if err != nil {
			continue
		}
		line, err := clocks.Dial(at, secret, skew)
		if err != nil {
			continue
		}
		if _, ok := line.Ask(300 * time.Millisecond); !ok {
			line.Close()
			continue
		}
		defer line.Close()
		ask, way = line.Ask, "at "+text
		break
	}
	b, err := clocks.First(ctx, ask)
	if err != nil {
		return err
	}
	_, off := b.At(skew.Of(machine.Own()))
	m.Log.Info("the lead's clock is known", "way", way, "within", off)
	return clocks.Watch(ctx, b, ask, skew, tell)
}

// ended takes note that a worker has.
func (m *joined) ended(run string, number int, why string) {
	m.agent.Ended(run, number, why)
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.run != run {
		return
	}
	delete(m.own, number)
	if len(m.own) == 0 {
		m.end()
		m.run = ""
		m.Tell("the run is over; waiting for the next one")
	}
}

// release ends a worker, as the lead wants it.
func (m *joined) release(run string, number int, kill bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	w, is := m.own[number]
	switch {
	case run != m.run || !is: // it has ended
	case kill:
		w.kill()
	default:
		w.letGo()
	}
	return nil
}

// drop ends all workers.
func (m *joined) drop(why string) {
	m.mu.Lock()
	all := make([]started, 0, len(m.own))
	for _, w := range m.own {
		all = append(all, w)
		w.letGo()
	}
	m.mu.Unlock()
	if len(all) > 0 {
		m.Log.Info("workers are ended", "why", why)
	}
	patience := time.After(3 * time.Second)
	for _, w := range all {
		select {
		case <-w.ended:
		case <-patience:
			w.kill()
			<-w.ended
		}
	}
}

// HostName is what this machine calls itself.
func HostName() string {
	name, err := os.Hostname()
	if err != nil {
		return "a machine"
	}
	return name
}
