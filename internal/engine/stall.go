package engine

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
)

const (
	// stallAfter is how much longer than it should a turn may take before the
	// loop counts as having stood still.
	stallAfter = 500 * time.Millisecond
	longStall  = time.Second
	// afterStall is how long what piled up during a long one is being served.
	afterStall = time.Second
	// longestLag is how long silence is not believed because the loop is behind
	// with its reading. A flood could put off every end for ever.
	longestLag = 10 * time.Second
	// stopWithin is how long clients may take to close after Stop, and endWithin
	// after the tide and the grace time.
	stopWithin = 2 * time.Second
	endWithin  = 5 * time.Second
)

// noticeStall marks the seconds in which the loop stood still: nothing was sent
// or read, so what should have happened then says nothing of the server. After a
// long one that goes for what was under way when it began and for what had piled
// up when it was over, too: the server may have had to wait for the clients.
func (l *Loop) noticeStall(now mono.Time) {
	if l.turned == 0 {
		return
	}
	began := max(l.turned, l.asleep)
	stood := now.Sub(began)
	if stood < stallAfter {
		return
	}
	why := l.causeOf(stood)
	if why != logbook.LoopFull {
		l.stalled += stood // it was not busy
	}
	page := l.book.Now()
	page.ReadingLag.Record(stood)
	page.ScheduleLag.Record(stood)
	from, to := began, now
	if stood >= longStall {
		from, to = began.Add(-l.cfg.Trial.Grace), now.Add(afterStall)
		if to > l.taintedTo {
			l.tainted, l.taintedTo = why, to
		}
	}
	l.book.Advance(now)
	l.book.Mark(from, to, why)
}

// causeOf says why the loop stood still, from what the system says of it since
// the second began.
func (l *Loop) causeOf(stood time.Duration) logbook.Overload {
	use := l.cfg.Use()
	waited := use.Waited - l.markedUse.Waited
	switch ran := use.Thread - l.markedUse.Thread; {
	case waited > stood/2 || use.Stolen-l.markedUse.Stolen > stood/2:
		return logbook.NoCore
	case ran > stood/2:
		return logbook.LoopFull
	}
	return logbook.Stopped
}

// heardUpTo is the time up to which silence is an answer: what had arrived by
// then was read, or the loop is hopelessly behind.
func (l *Loop) heardUpTo(now mono.Time) mono.Time {
	return min(now, max(l.drv.CaughtUp(), now.Add(-longestLag)))
}

// hindered marks a second in which this machine could not open a connection.
func (l *Loop) hindered(lack wire.Lack, now mono.Time) {
	why := [...]logbook.Overload{wire.NoPort: logbook.NoPort, wire.NoFile: logbook.NoFile,
		wire.NoMemory: logbook.NoMemory}[lack]
	l.book.Mark(now, now, why)
}

// endInTime cuts off the clients that are still there when the run has to be
// over.
func (l *Loop) endInTime(now mono.Time) {
	if l.endBy == 0 {
		if since := now.Sub(l.start); since <= l.cfg.Trial.Length() {
			return
		}
		l.endBy = l.start.Add(l.cfg.Trial.Length() + l.cfg.Trial.Grace + endWithin)
	}
	if now < l.endBy {
		return
	}
	for i := range l.clients {
		if !l.clients[i].Idle() {
			l.clients[i].Cut(l.env, now)
			l.after(int32(i))
		}
	}
}

// Bounds on what waits to be sent, for one client and for all of a loop.
const (
	maxQueued    = 32 << 20
	maxQueuedAll = 128 << 20
)

// boundQueues ends a client to whose server more waits to be sent than may.
func (l *Loop) boundQueues(id ledger.Client) {
	out := &l.env.IO.Lines[transport.Main].Out
	if len(*out) == 0 {
		return
	}
	waits := l.drv.Queued(id)
	switch {
	case waits > maxQueued:
		l.clients[id].Overrun(l.env, l.drv.Now(), fmt.Sprintf("more than %d MiB wait to be sent to this client's "+
			"connection", maxQueued>>20))
	case waits > 0 && l.drv.Queued(poll.All) > maxQueuedAll:
		l.clients[id].Overrun(l.env, l.drv.Now(),
			fmt.Sprintf("more than %d MiB wait to be sent by all clients together", maxQueuedAll>>20))
	default:
		return
	}
	*out = (*out)[:0]
}
