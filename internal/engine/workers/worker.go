package workers

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine"
	"tidepull/internal/engine/machine"
	"tidepull/internal/measure/fact"
	"tidepull/internal/trial"
)

const (
	batchOf = 512                  // facts that are sent at once, if there are so many
	holdFor = 2 * time.Millisecond // how long fewer may wait
	// holdMost is how many facts of a share may wait for a credit before its loop does.
	holdMost = 1 << 17
	factSize = 64 // of a fact as it is sent, with ease
)

// A Worker is a worker's end of its lines to the lead. It implements engine.Elsewhere.
type Worker struct {
	run    string
	number int
	per    int // shares of each worker
	hold   int // how many bytes of facts of a share may wait for a credit before its loop does
	facts  *nats.Conn
	notes  *nats.Conn
	ctx    context.Context // ended when the lead is gone, or a message is missing
	end    context.CancelCauseFunc

	begins  chan mono.Time
	credits chan struct{} // one for each batch that may be on its way
	waited  atomic.Int64
	shares  []held // those here; each belongs to its share's goroutine
	sending sync.Mutex
	seq     uint64         // of facts
	sent    map[int]uint64 // notes, by who they were for
	buf     []byte
}

// held is what a share has told and the lead has not been sent.
type held struct {
	batch fact.Batch
	since time.Time // when it was last sent
}

// ErrLeadGone is why a worker ends if the process that leads the run is no more.
var ErrLeadGone = errors.New("the process that leads the run is gone")

// Join connects a worker to the lead of a run, and gives what it is to do.
func Join(ctx context.Context, at *Address, run string, number int) (*Worker, []byte, error) {
	w := &Worker{run: run, number: number, sent: map[int]uint64{}, begins: make(chan mono.Time, 1),
		credits: make(chan struct{}, credit)}
	w.ctx, w.end = context.WithCancelCause(ctx)
	for range credit {
		w.credits <- struct{}{}
	}
	for _, nc := range []**nats.Conn{&w.facts, &w.notes} {
		var err error
		*nc, err = at.connect(fmt.Sprint("worker ", number, " ", run), w.failed,
			nats.ClosedHandler(func(*nats.Conn) { w.end(ErrLeadGone) }))
		if err != nil {
			w.Close()
			return nil, nil, fmt.Errorf("joining the run's lead: %w", err)
		}
	}
	w.hold = int(min(w.facts.MaxPayload()/2, holdMost*factSize))
	err := errors.Join(
		hear(w.facts, inRun(run, "begin"), w.failed, func(_ *nats.Msg,
			b begin) {
			w.begins <- machine.InstantHere(b.At)
		}),
		listen(w.facts, w.subject("credit", number), func(*nats.Msg) { w.credits <- struct{}{} }),
		w.facts.Flush())
	var answer *nats.Msg
	if err == nil {
		answer, err = w.facts.RequestWithContext(w.ctx, w.subject("join", number), nil)
	}
	if err != nil {
		w.Close()
		return nil, nil, fmt.Errorf("joining the run's lead: %w", err)
	}
	return w, answer.Data, nil
}

func (w *Worker) failed(err error) { w.end(err) }

// Context ends when the lead is gone, or what the processes say to each other is not whole; its cause says which.
func (w *Worker) Context() context.Context { return w.ctx }

func (w *Worker) subject(what string, worker int) string { return line(w.run, what, worker) }

// Deal tells how many shares each worker has, before the run begins.
func (w *Worker) Deal(shares int) { w.per, w.shares = shares, make([]held, shares) }

// Ready tells the lead that the worker could begin, or why it cannot, and gives the instant at which the run begins.
func (w *Worker) Ready(kernelTimes bool, wrong error) (mono.Time, error) {
	r := ready{KernelTimes: kernelTimes}
	var err error
	if r.Line, err = w.facts.GetClientID(); err != nil {
		return 0, fmt.Errorf("workers: %w", err)
	}
	if wrong != nil {
		r.Wrong = wrong.Error()
	}
	if err = errors.Join(say(w.facts, w.subject("ready", w.number), r), w.facts.Flush()); err != nil {
		return 0, fmt.Errorf("workers: %w", err)
	}
	if wrong != nil {
		return 0, wrong
	}
	select {
	case at := <-w.begins:
		return at, nil
	case <-w.ctx.Done():
		return 0, context.Cause(w.ctx)
	}
}

// Serve passes on to an engine what comes for it: notes for its shares, and orders.
func (w *Worker) Serve(e *engine.Engine) error {
	from := map[int]*counter{}
	var orders counter
	err := errors.Join(
		listen(w.notes, w.subject("notes", w.number), func(m *nats.Msg) {
			sender, seq, share, notes, err := parseNote(m.Data)
			if from[sender] == nil {
				from[sender] = &counter{}
			}
			if err == nil {
				err = from[sender].follows(seq, "notes")
			}
			for _, n := range notes {
				if err == nil {
					err = e.Post(share, n)
				}
			}
			if err != nil {
				w.end(err)
			}
		}),
		hear(w.notes, inRun(w.run, "orders"), w.failed, func(_ *nats.Msg, o order) {
			err := orders.follows(o.Seq, "orders")
			switch {
			case err != nil:
			case o.Abort:
				err = context.Canceled
			case o.Stop:
				e.Stop()
			case o.Fault != nil:
				err = e.Throw(o.Fault, o.On)
			}
			if err != nil {
				w.end(err)
			}
		}),
		w.notes.Flush())
	if err != nil {
		return fmt.Errorf("workers: %w", err)
	}
	return nil
}

// Note implements engine.Elsewhere.
func (w *Worker) Note(share int, n fact.Note) error {
	to := share
	if share != engine.Conductor {
		to = share / w.per
	}
	w.sending.Lock()
	defer w.sending.Unlock()
	w.sent[to]++
	return w.notes.Publish(w.subject("notes", to), appendNote(nil, w.number, w.sent[to], share, n))
}

// Facts implements engine.Elsewhere.
func (w *Worker) Facts(share int, b *fact.Batch) error {
	if w.ctx.Err() != nil { // what is told while it ends for no reason of the run's would look as if clients had left
		return context.Cause(w.ctx)
	}
	h := &w.shares[share-w.number*w.per]
	h.batch.TakeOver(&b.Log)
	h.batch.UpTo, h.batch.Ended, h.batch.Off = b.UpTo, b.Ended, max(h.batch.Off, b.Off)
	if b.Part != nil {
		if was := h.batch.Part; was != nil { // it was not sent
			b.Part.Closed = append(was.Closed, b.Part.Closed...)
		}
		h.batch.Part = b.Part
	}
	few := len(h.batch.Facts) < batchOf && len(h.batch.Text) < batchOf*factSize
	if few && !b.Ended && b.Part == nil && time.Since(h.since) < holdFor {
		return nil
	}
	select {
	case <-w.credits:
	default:
		w.waited.Add(1)
		if len(h.batch.Facts)*factSize+len(h.batch.Text) < w.hold && !b.Ended {
			return nil
		}
		select {
		case <-w.credits:
		case <-w.ctx.Done():
			return context.Cause(w.ctx)
		}
	}
	h.since = time.Now()
	w.sending.Lock()
	defer w.sending.Unlock()
	w.seq++
	w.buf = appendFacts(w.buf[:0], w.seq, share, &h.batch)
	h.batch.Clear()
	h.batch.Off = 0
	h.batch.Part = nil
	if err := w.facts.Publish(w.subject("facts", w.number), w.buf); err != nil {
		return fmt.Errorf("telling the lead: %w", err)
	}
	return nil
}

// Stop implements engine.Elsewhere: it is the lead's to do.
func (w *Worker) Stop() {}

// Throw implements engine.Elsewhere: it is the lead's to do.
func (w *Worker) Throw(*trial.Fault, bool) error { return nil }

// Done tells the lead how the worker's shares have ended.
func (w *Worker) Done(err error) {
	d := done{NotReached: errors.Is(err, engine.ErrNotReached), Waited: int(w.waited.Load())}
	if err != nil {
		d.Wrong = err.Error()
	}
	// If the lead is gone there is nobody to tell.
	_ = say(w.facts, w.subject("done", w.number), d)
	_ = w.facts.FlushTimeout(time.Second)
}

// Close ends the lines.
func (w *Worker) Close() {
	w.end(context.Canceled)
	for _, nc := range []*nats.Conn{w.facts, w.notes} {
		if nc != nil {
			nc.Close()
		}
	}
}
