package workers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"

	"tidepull/internal/base/units"
)

// An Offer is what a machine that has joined can carry.
type Offer struct {
	ID      string
	Name    string // of the machine
	Version string // of the tool
	Clients int    // how many it can carry
	Workers int    // in how many processes, at the most
	Agrees  []string
	Busy    bool // with another run
}

// A Hiring is what one machine is to do for a run.
type Hiring struct {
	Run     string
	Workers []int    // which of the run's workers it has
	Clock   []string // where the lead's clock is asked for, as HOST:PORT
	Secret  []byte   // which opens it
}

// The subjects by which machines are found, beside those of a run: offers, and what is asked of one machine.
const offers = "tidepull.offers"

func machineSubject(id, what string) string { return "tidepull.machine." + id + "." + what }

// An answer says whether what was asked for was done.
type answer struct{ Wrong string }

// A release has a machine end a worker: let it go, or kill it.
type release struct {
	Run    string
	Worker int
	Kill   bool
}

// An ending says that the process of a worker has ended.
type ending struct {
	Worker int
	Why    string
}

// Offers asks which machines there are, until as many as wanted have answered, or a while has passed. With none wanted
// it is those that answer at once.
func (l *Lead) Offers(ctx context.Context, wanted int, within time.Duration) ([]Offer, error) {
	var all []Offer
	heard := make(chan Offer, 256)
	inbox := nats.NewInbox()
	if err := errors.Join(hear(l.notes, inbox, func(error) {}, func(_ *nats.Msg, o Offer) {
		select {
		case heard <- o:
		default: // nobody has so many machines
		}
	}), l.notes.Flush()); err != nil {
		return nil, err
	}
	over, again := time.After(within), time.NewTicker(500*time.Millisecond)
	defer again.Stop()
	for first := true; ; first = false {
		if err := l.notes.PublishRequest(offers, inbox, nil); err != nil {
			return nil, fmt.Errorf("asking for machines: %w", err)
		}
		for next := false; !next; {
			select {
			case o := <-heard:
				if !slices.ContainsFunc(all, func(h Offer) bool { return h.ID == o.ID }) {
					all = append(all, o)
				}
			case <-again.C:
				next = true
			case <-over:
				slices.SortFunc(all, func(a, b Offer) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
				return all, nil
			case <-ctx.Done():
				return nil, ctx.Err()
			}
			if wanted > 0 && len(all) >= wanted {
				over = time.After(0)
			}
		}
		if wanted == 0 && !first && len(all) > 0 {
			over = time.After(0)
		}
	}
}

// A Share of a run's workers is what one machine has of them.
type Share struct {
	Machine Offer
	Workers int
}

// Deal deals clients out to machines in workers of the same size, so that none has more than it can carry: as few
// workers as that takes, and at least one on each machine that has room for it. most bounds them.
func Deal(clients int, machines []Offer, most int) ([]Share, error) {
	can := 0
	for _, m := range machines {
		can += m.Clients
	}
	if can < clients {
		return nil, fmt.Errorf("%s can carry %s clients, and the trial has %s: let more machines join, or take fewer "+
			"clients", units.Plural(len(machines), "machine"), units.Count(int64(can)), units.Count(int64(clients)))
	}
	for n := max(1, len(machines)); n <= most; n++ {
		each := (clients + n - 1) / n
		all, left := make([]Share, len(machines)), n
		for i := range machines {
			all[i].Machine = machines[i]
		}
		for left > 0 { // to who has the fewest of those with room, and of these to who has the most
			best := -1
			room := func(i int) int { return all[i].Machine.Clients - each*all[i].Workers }
			for i := range all {
				if room(i) < each || all[i].Workers >= all[i].Machine.Workers {
					continue
				}
				if best < 0 || all[i].Workers < all[best].Workers ||
					all[i].Workers == all[best].Workers && room(i) > room(best) {
					best = i
				}
			}
			if best < 0 {
				break
			}
			all[best].Workers++
			left--
		}
		if left == 0 {
			return slices.DeleteFunc(all, func(s Share) bool { return s.Workers == 0 }), nil
		}
	}
	return nil, fmt.Errorf("%s clients cannot be dealt out to these machines in at most %d processes of the same size",
		units.Count(int64(clients)), most)
}

// Hire has a machine start workers.
func (l *Lead) Hire(ctx context.Context, m Offer, h Hiring) error {
	h.Run = l.run
	return l.ask(ctx, m, "hire", h)
}

// Release has a machine end one of them.
func (l *Lead) Release(ctx context.Context, m Offer, worker int, kill bool) error {
	return l.ask(ctx, m, "release", release{l.run, worker, kill})
}

func (l *Lead) ask(ctx context.Context, m Offer, what string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	msg, err := l.notes.RequestWithContext(ctx, machineSubject(m.ID, what), b)
	var a answer
	if err == nil {
		err = json.Unmarshal(msg.Data, &a)
	}
	if err == nil && a.Wrong != "" {
		err = errors.New(a.Wrong)
	}
	if err != nil {
		return fmt.Errorf("machine %s: %w", m.Name, err)
	}
	return nil
}

// Endings has f called when the process of a worker on another machine has ended.
func (l *Lead) Endings(f func(worker int, why string)) error {
	return errors.Join(hear(l.notes, l.of("ended"), l.failed, func(_ *nats.Msg, e ending) {
		if e.Worker >= 0 && e.Worker < len(l.workers) {
			f(e.Worker, e.Why)
		}
	}), l.notes.Flush())
}

// An Agent offers this machine to who leads runs.
type Agent struct {
	ID   string
	nc   *nats.Conn
	over chan struct{} // the connection is
}

// NewAgent connects to where runs meet.
func NewAgent(at *Address, id string) (*Agent, error) {
	a := &Agent{ID: id, over: make(chan struct{})}
	var err error
	a.nc, err = at.connect("machine "+id, func(error) {}, nats.ClosedHandler(func(*nats.Conn) { close(a.over) }))
	return a, err
}

// Serve answers who asks: offer says what the machine can carry, hire starts workers, release ends one. It returns when
// the connection is over, or the context.
func (a *Agent) Serve(ctx context.Context, offer func() Offer, hire func(Hiring) error,
	letGo func(run string, worker int, kill bool) error) error {
	done := func(m *nats.Msg, err error) {
		var a answer
		if err != nil {
			a.Wrong = err.Error()
		}
		respond(m, a)
	}
	ignored := func(error) {} // what is no request of ours
	err := errors.Join(
		listen(a.nc, offers, func(m *nats.Msg) { respond(m, offer()) }),
		hear(a.nc, machineSubject(a.ID, "hire"), ignored, func(m *nats.Msg, h Hiring) { done(m, hire(h)) }),
		hear(a.nc, machineSubject(a.ID, "release"), ignored, func(m *nats.Msg, r release) {
			done(m, letGo(r.Run, r.Worker, r.Kill))
		}),
		a.nc.Flush())
	if err != nil {
		return err
	}
	select {
	case <-ctx.Done():
	case <-a.over:
		return errors.New("the NATS server is gone")
	}
	return nil
}

// Ended tells the lead of a run that the process of one of its workers has ended.
func (a *Agent) Ended(run string, worker int, why string) {
	_ = say(a.nc, inRun(run, "ended"), ending{worker, why}) // a lead that is gone need not know
}

// AskClock asks the lead of a run what time it is there, over the NATS server: where its clock cannot be reached
// directly. The two instants are the lead's own.
func (a *Agent) AskClock(run string, within time.Duration) (received, answered int64, ok bool) {
	msg, err := a.nc.Request(inRun(run, "clock"), nil, within)
	if err != nil {
		return 0, 0, false
	}
	var t clockAnswer
	err = json.Unmarshal(msg.Data, &t)
	return t.Received, t.Answered, err == nil
}

type clockAnswer struct{ Received, Answered int64 }

// Close ends the connection.
func (a *Agent) Close() { a.nc.Close() }
