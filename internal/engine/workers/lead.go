package workers

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine"
	"tidepull/internal/engine/machine"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// Config says what a Lead is of.
type Config struct {
	Workers   int
	Shares    int // of each worker
	Clients   int // of the run
	Grace     time.Duration
	Announced bool   // the server tells the others who leaves
	Order     []byte // what each worker is told to do
}

// An Account takes what workers tell (engine.Engine does).
type Account interface {
	// Put takes what a share tells; the batch's log is empty afterwards.
	Put(share int, b *fact.Batch)
	// Post takes a note to the conductor.
	Post(share int, n fact.Note) error
	// Fail ends the run.
	Fail(error)
}

// A Lost is a worker that ended, or fell silent, before its shares had.
type Lost struct {
	Worker  int           `json:"worker"`
	Machine string        `json:"machine,omitempty"` // which it was on; "": the lead's
	Clients int           `json:"clients"`           // of whom nothing is known from then on
	At      time.Duration `json:"at_ns"`             // since the start of the run
	Why     string        `json:"why"`               // the rest of a sentence
}

// A Lead is the lead's end of the lines to the workers. It implements engine.Elsewhere.
type Lead struct {
	cfg    Config
	run    string         // what tells this run's subjects from others
	at     Address        // where the processes meet
	server *server.Server // nil: it is not this process's own
	facts  *nats.Conn
	notes  *nats.Conn
	ready  chan readied

	mu      sync.Mutex // everything below
	account Account
	start   mono.Time // of the run
	workers []worker
	orders  uint64
	lost    []Lost
	closed  bool
}

type readied struct {
	ready
	worker int
}

// A worker is what the lead knows of one.
type worker struct {
	seq    counter
	notes  uint64  // sent to it
	told   counter // notes that it has sent
	heard  time.Time
	busy   bool // a batch of it is being worked through
	shares []told
	done   bool
	lost   bool
	waited int
	off    time.Duration // by how much its clock may have been off this one's, at the most
	line   uint64        // its line for facts, as the server numbers them
	why    string        // it could not go on
}

// told is how far the facts of a share go.
type told struct {
	upTo  mono.Time
	ended bool
	part  *fact.Part // the last
}

// silentFor is how long a worker may say nothing, though it speaks four times a second, before it counts as lost.
const silentFor = 5 * time.Second

// Meet begins a run at a NATS server: one that is there, or that this process starts there if the address is this
// machine's; nil: one of its own for this machine's processes alone.
func Meet(over *Address) (*Lead, error) {
	l := &Lead{run: rand.Text(), at: Address{Token: rand.Text()}}
	if over != nil {
		l.at = *over
	}
	var err error
	if l.server, err = l.at.meet(); err != nil {
		return nil, fmt.Errorf("workers: %w", err)
	}
	var inside []nats.Option
	if l.server != nil {
		inside = append(inside, nats.InProcessServer(l.server))
	}
	for _, nc := range []**nats.Conn{&l.facts, &l.notes} {
		if *nc, err = l.at.connect("lead "+l.run, l.failed, inside...); err != nil {
			l.Close()
			return nil, fmt.Errorf("workers: %w", err)
		}
	}
	err = listen(l.notes, l.of("clock"), func(m *nats.Msg) {
		received := machine.Own()
		respond(m, clockAnswer{received, machine.Own()})
	})
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Expect has the lead listen for the run's workers.
func (l *Lead) Expect(cfg Config) error {
	l.cfg, l.ready, l.workers = cfg, make(chan readied, cfg.Workers), make([]worker, cfg.Workers)
	for i := range l.workers {
		l.workers[i].shares = make([]told, cfg.Shares)
	}
	var err error
	for i := range l.workers {
		err = errors.Join(err,
			listen(l.facts, l.subject("join", i), func(m *nats.Msg) {
				if err := m.Respond(cfg.Order); err != nil {
					l.failed(fmt.Errorf("workers: telling worker %d what to do: %w", i, err))
				}
			}),
			hear(l.facts, l.subject("ready", i), l.failed, func(_ *nats.Msg, r ready) {
				l.mu.Lock()
				l.workers[i].line = r.Line
				l.mu.Unlock()
				l.ready <- readied{r, i}
			}),
			listen(l.facts, l.subject("facts", i), func(m *nats.Msg) { l.takes(i, m.Data) }),
			hear(l.facts, l.subject("done", i), l.failed, func(_ *nats.Msg, d done) { l.ended(i, d) }))
	}
	err = errors.Join(err, listen(l.notes, l.subject("notes", engine.Conductor), l.conduct))
	if err = errors.Join(err, l.facts.Flush(), l.notes.Flush()); err != nil {
		return fmt.Errorf("workers: %w", err)
	}
	return nil
}

// Address is where workers meet the lead, and Run which run they say they are of.
func (l *Lead) Address() Address { return l.at }

// Run tells the run's subjects from others.
func (l *Lead) Run() string { return l.run }

// of is a subject of the run.
func (l *Lead) of(what string) string { return inRun(l.run, what) }

func (l *Lead) subject(what string, worker int) string { return line(l.run, what, worker) }

// Gather waits until all workers could begin, and reports whether the kernel of each stamps what arrives.
func (l *Lead) Gather(ctx context.Context) (kernelTimes bool, err error) {
	kernelTimes = true
	for range l.cfg.Workers {
		select {
		case r := <-l.ready:
			if r.Wrong != "" {
				return false, fmt.Errorf("worker %d: %s", r.worker, r.Wrong)
			}
			kernelTimes = kernelTimes && r.KernelTimes
		case <-ctx.Done():
			return false, fmt.Errorf("waiting for the run's workers: %w", context.Cause(ctx))
		}
	}
	return kernelTimes, nil
}

// Begin has the workers begin at an instant; what they tell goes to an account.
func (l *Lead) Begin(a Account, at mono.Time) error {
	l.mu.Lock()
	l.account, l.start = a, at
	for i := range l.workers {
		l.workers[i].heard = time.Now().Add(at.Sub(mono.Now()))
	}
	l.mu.Unlock()
	if err := errors.Join(say(l.facts, l.of("begin"), begin{machine.Instant(at)}), l.facts.Flush()); err != nil {
		return fmt.Errorf("workers: %w", err)
	}
	return nil
}

// takes takes a batch of a worker to the account, and gives it the credit for the next one.
func (l *Lead) takes(from int, b []byte) {
	if len(b) == 0 { // Ended: nothing comes of it any more
		l.mu.Lock()
		why := l.workers[from].why
		l.mu.Unlock()
		l.Lose(from, why)
		return
	}
	seq, share, batch, err := parseFacts(b)
	l.mu.Lock()
	w := &l.workers[from]
	place := share - from*l.cfg.Shares
	switch {
	case err != nil:
	case l.account == nil || place < 0 || place >= l.cfg.Shares:
		err = fmt.Errorf("workers: worker %d tells of share %d", from, share)
	case !w.lost: // what one says that was given up is not heard
		err = w.seq.follows(seq, "batches of facts")
	}
	if err != nil || w.lost {
		l.mu.Unlock()
		l.failed(err)
		return
	}
	t := &w.shares[place]
	t.upTo, t.ended = batch.UpTo, batch.Ended
	w.off = max(w.off, batch.Off)
	if batch.Part != nil {
		t.part = batch.Part
	}
	w.busy = true
	l.mu.Unlock()
	l.account.Put(share, &batch)
	l.mu.Lock()
	w.busy, w.heard = false, time.Now()
	l.mu.Unlock()
	if err := l.facts.Publish(l.subject("credit", from), nil); err != nil {
		l.failed(fmt.Errorf("workers: worker %d: %w", from, err))
	}
}

// conduct takes a note of a worker to the conductor.
func (l *Lead) conduct(m *nats.Msg) {
	from, seq, share, notes, err := parseNote(m.Data)
	l.mu.Lock()
	a := l.account
	switch {
	case err != nil:
	case a == nil || share != engine.Conductor || from < 0 || from >= len(l.workers):
		err = errors.New("workers: a note for nobody")
	default:
		err = l.workers[from].told.follows(seq, "notes")
	}
	l.mu.Unlock()
	for _, n := range notes {
		if err == nil {
			err = a.Post(share, n)
		}
	}
	l.failed(err)
}

// failed ends the run.
func (l *Lead) failed(err error) {
	l.mu.Lock()
	a, closed := l.account, l.closed
	l.mu.Unlock()
	if err != nil && a != nil && !closed {
		a.Fail(err)
	}
}

// ended takes note of how a worker's shares have ended.
func (l *Lead) ended(from int, d done) {
	l.mu.Lock()
	w := &l.workers[from]
	w.done, w.waited = true, d.Waited
	if d.Wrong != "" {
		w.why = "failed: " + d.Wrong
	}
	l.mu.Unlock()
	switch {
	case d.NotReached:
		go l.notReached()
	case d.Wrong != "":
		l.Lose(from, "failed: "+d.Wrong)
	}
}

// notReached ends the run as nothing can be reached. Why that is the workers tell before they end, all of them.
func (l *Lead) notReached() {
	for end := time.Now().Add(lastWords); time.Now().Before(end) && !l.allTold(); {
		time.Sleep(time.Millisecond)
	}
	l.failed(engine.ErrNotReached)
}

// allTold reports whether all workers that are not lost have told everything.
func (l *Lead) allTold() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range l.workers {
		w := &l.workers[i]
		if w.busy || !w.lost && slices.ContainsFunc(w.shares, func(t told) bool { return !t.ended }) {
			return false
		}
	}
	return true
}

// Ended gives a worker up whose process has ended, unless it has told everything. What it told before may be on its
// way still: so the server is waited for to have read its line to the end, and then a message of the lead's own goes
// the same way, behind all of that.
func (l *Lead) Ended(number int, why string) {
	l.mu.Lock()
	w := &l.workers[number]
	if w.why == "" {
		w.why = why
	}
	line, begun := w.line, l.account != nil
	l.mu.Unlock()
	if !begun {
		select {
		case l.ready <- readied{ready{Wrong: why}, number}:
		default: // it was ready: what begins without it finds out
		}
	}
	for line != 0 && l.server != nil && l.server.GetClient(line) != nil {
		time.Sleep(time.Millisecond)
	}
	if l.server == nil { // what it told is on a way that is not known: one that ended as it should has said so last
		for end := time.Now().Add(lastWords); time.Now().Before(end) && !l.toldAll(number); {
			time.Sleep(time.Millisecond)
		}
	}
	if err := l.facts.Publish(l.subject("facts", number), nil); err != nil && !errors.Is(err,
		nats.ErrConnectionClosed) {
		l.failed(fmt.Errorf("workers: worker %d has ended: %w", number, err))
	}
}

// lastWords is how long what a worker told last may be on its way over a server that is not the lead's.
const lastWords = 2 * time.Second

// toldAll reports whether a worker has told how it ended.
func (l *Lead) toldAll(number int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.workers[number].done
}

// Lose gives a worker up that has ended or is silent: of its clients nothing is known from then on, and nobody is
// blamed for what becomes of them. One that has told everything cannot be lost.
func (l *Lead) Lose(number int, why string) {
	l.mu.Lock()
	w := &l.workers[number]
	a := l.account
	all := true
	for _, t := range w.shares {
		all = all && t.ended
	}
	if a == nil || w.lost || all || l.closed {
		l.mu.Unlock()
		return
	}
	w.lost = true
	for w.busy { // what it said before counts
		l.mu.Unlock()
		time.Sleep(time.Millisecond)
		l.mu.Lock()
	}
	lost := Lost{Worker: number, Why: why}
	shares := w.shares
	l.mu.Unlock()
	for place := range shares {
		t := &shares[place]
		if t.ended {
			continue
		}
		share := number*l.cfg.Shares + place
		b, clients := l.closing(share, t)
		lost.Clients += clients
		lost.At = max(lost.At, time.Duration(t.upTo))
		for c := share; c < l.cfg.Clients; c += l.cfg.Workers * l.cfg.Shares { // nobody is to wait for them
			if err := a.Post(engine.Conductor, fact.Note{At: t.upTo, Kind: fact.Ended, Client: ledger.Client(c),
				By: 1}); err != nil {
				l.failed(err)
			}
		}
		a.Put(share, &b)
	}
	l.mu.Lock()
	l.lost = append(l.lost, lost)
	l.mu.Unlock()
}

// closing is what a share would have told last. Nothing is known of its clients from the instant on up to which it has
// told of them; they leave when it is given up, and the server has the grace time to notice.
func (l *Lead) closing(share int, t *told) (b fact.Batch, clients int) {
	from := max(0, t.upTo)
	now := max(from, mono.Time(mono.Now().Sub(l.start)))
	shares := l.cfg.Workers * l.cfg.Shares
	each := func(kind fact.Kind, at mono.Time) {
		for c := share; c < l.cfg.Clients; c += shares {
			b.Add(fact.Fact{Kind: kind, Client: ledger.Client(c), Peer: -1, Room: -1, At: at, Time: from,
				What: uint8(excuse.WorkerLost)})
		}
	}
	each(fact.IsHindered, from)
	clients = len(b.Facts)
	if l.cfg.Announced {
		each(fact.Goes, now)
	}
	each(fact.Closes, now)
	each(fact.IsGone, now.Add(l.cfg.Grace))
	b.Add(fact.Fact{Kind: fact.Caught, Client: fact.AfterAll, At: now.Add(l.cfg.Grace), Time: mono.Never,
		Since: mono.Never})
	b.UpTo, b.Ended, b.Lost = now.Add(l.cfg.Grace), true, true
	b.Part = &fact.Part{Tick: fact.LastTick}
	if t.part != nil {
		b.Part.Closed, b.Part.Reasons, b.Part.Said = t.part.Open, t.part.Reasons, t.part.Said
	}
	return b, clients
}

// Watch gives workers up that are silent, until the context ends; end is called with each of them.
func (l *Lead) Watch(ctx context.Context, end func(worker int)) {
	for tick := time.NewTicker(time.Second); ; {
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
		for i := range l.workers {
			l.mu.Lock()
			w := &l.workers[i]
			silent := l.account != nil && !w.busy && !w.lost && !w.done && time.Since(w.heard) > silentFor
			l.mu.Unlock()
			if silent {
				end(i)
				l.Lose(i, fmt.Sprintf("said nothing for %v", silentFor))
			}
		}
	}
}

// Lost gives the workers that were given up.
func (l *Lead) Lost() []Lost {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]Lost(nil), l.lost...)
}

// Note implements engine.Elsewhere.
func (l *Lead) Note(share int, n fact.Note) error {
	to := share / l.cfg.Shares
	l.mu.Lock()
	defer l.mu.Unlock()
	l.workers[to].notes++
	return l.notes.Publish(l.subject("notes", to), appendNote(nil, lead, l.workers[to].notes, share, n))
}

// Facts implements engine.Elsewhere: no share is here.
func (l *Lead) Facts(int, *fact.Batch) error { return errors.New("workers: the lead has no shares") }

// Stop implements engine.Elsewhere.
func (l *Lead) Stop() { l.failed(l.command(order{Stop: true})) }

// Abort has all workers end at once.
func (l *Lead) Abort() { _ = l.command(order{Abort: true}) } // they are ended if it fails

// Throw implements engine.Elsewhere.
func (l *Lead) Throw(f *trial.Fault, on bool) error { return l.command(order{Fault: f, On: on}) }

// command tells all workers what to do.
func (l *Lead) command(o order) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.orders++
	o.Seq = l.orders
	if err := errors.Join(say(l.notes, l.of("orders"), o), l.notes.Flush()); err != nil {
		return fmt.Errorf("workers: %w", err)
	}
	return nil
}

// Waited is how many batches of the workers had to wait for a credit.
func (l *Lead) Waited() (n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range l.workers {
		n += l.workers[i].waited
	}
	return n
}

// Off is by how much the clock of a worker's machine may have been off this one's, at the most.
func (l *Lead) Off(worker int) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.workers[worker].off
}

// Close ends the lines and the server.
func (l *Lead) Close() {
	l.mu.Lock()
	l.closed = true
	l.mu.Unlock()
	for _, nc := range []*nats.Conn{l.facts, l.notes} {
		if nc != nil {
			nc.Close()
		}
	}
	if l.server != nil {
		l.server.Shutdown()
		l.server.WaitForShutdown()
	}
}
