package engine

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
)

const (
	// stallAfter is how much longer than it should a pass of the loop may take before the
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
func (s *share) noticeStall(now mono.Time) {
	if s.turned == 0 {
		return
	}
	began := max(s.turned, s.asleep)
	stood := now.Sub(began)
	if stood < stallAfter {
		return
	}
	why := s.causeOf(stood, now)
	if why != logbook.LoopFull {
		s.stalled += stood // it was not busy
	}
	page := s.book.Now()
	page.Times[logbook.ReadingLag].Record(stood)
	page.Times[logbook.ScheduleLag].Record(stood)
	s.lags(s.second(now), stood)
	from, to := began, now
	if stood >= longStall {
		from, to = began.Add(-s.trial.Grace), now.Add(afterStall)
		if to > s.taintedTo {
			s.tainted, s.taintedTo = why, to
		}
	}
	s.book.Advance(now)
	s.mark(from, to, why)
}

// noticeDropped marks the seconds in which this machine dropped datagrams: that they were
// lost says nothing of the server.
func (s *share) noticeDropped(now mono.Time) {
	n := s.drv.Dropped()
	if n == s.dropped {
		return
	}
	s.env.Reasons.Count("dropped by this machine: datagrams that were not read in time", n-s.dropped)
	s.dropped = n
	s.book.Advance(now)
	s.mark(max(s.start, min(s.turned, s.asleep).Add(-time.Second)), now, logbook.Dropped)
}

// causeOf says why the loop stood still, from what the system says of it since
// the second began.
func (s *share) causeOf(stood time.Duration, now mono.Time) logbook.Overload {
	use := s.cfg.Use()
	waited := use.Waited - s.markedUse.Waited
	switch ran := use.Thread - s.markedUse.Thread; {
	case waited > stood/2 || use.Stolen-s.markedUse.Stolen > stood/2:
		return logbook.NoCore
	case ran > stood/2:
		return logbook.LoopFull
	}
	p := s.cfg.Pressure(now.Add(-stood), now)
	if p.Known && !p.Stopped {
		time.Sleep(hearsOfStop) // the signal that says so may be on its way
		p = s.cfg.Pressure(now.Add(-stood), s.drv.Now())
	}
	if p.Known && !p.Stopped {
		// It waited for another thread of the tool, which had no core.
		return logbook.NoCore
	}
	return logbook.Stopped
}

// hearsOfStop is how long it may take to hear that the process was stopped.
const hearsOfStop = 30 * time.Millisecond

// heardUpTo is the time up to which silence is an answer: what had arrived by
// then was read, or the loop is hopelessly behind.
func (s *share) heardUpTo(now mono.Time) mono.Time {
	return min(now, max(s.drv.CaughtUp(), now.Add(-longestLag)))
}

// readUpTo is the time up to which what had arrived was read, if the share is hopelessly
// behind; otherwise it is heardUpTo.
func (s *share) readUpTo(now mono.Time) mono.Time { return min(s.heardUpTo(now), s.drv.CaughtUp()) }

// hindered marks a second in which this machine could not open a connection.
func (s *share) hindered(lack wire.Lack, now mono.Time) {
	why := [...]logbook.Overload{wire.NoPort: logbook.NoPort, wire.NoFile: logbook.NoFile,
		wire.NoMemory: logbook.NoMemory}[lack]
	s.mark(now, now, why)
}

// endInTime cuts off the clients that are still there when the run has to be
// over.
func (s *share) endInTime(now mono.Time) {
	if s.endBy == 0 {
		if s.since(now) <= s.trial.Ends() {
			return
		}
		s.endBy = s.start.Add(s.trial.Ends() + s.trial.Grace + endWithin)
	}
	if now < s.endBy {
		return
	}
	for i := range s.clients {
		if !s.clients[i].Idle() {
			s.clients[i].Cut(s.env, now)
			s.after(int32(i))
		}
	}
}

// Bounds on what waits to be sent, for one client and for all of a loop.
const (
	maxQueued    = 32 << 20
	maxQueuedAll = 128 << 20
)

// boundQueues ends a client if more waits to be sent to its server than may.
func (s *share) boundQueues(id int32) {
	out := &s.env.IO.Lines[transport.Main].Out // of a second transport little is waiting
	if len(*out) == 0 {
		return
	}
	waits := s.drv.Queued(id)
	switch {
	case waits > maxQueued:
		s.clients[id].Overrun(s.env, s.drv.Now(), fmt.Sprintf("more than %d MiB wait to be sent to this client's "+
			"connection", maxQueued>>20))
	case waits > 0 && s.drv.Queued(poll.All) > maxQueuedAll:
		s.clients[id].Overrun(s.env, s.drv.Now(),
			fmt.Sprintf("more than %d MiB wait to be sent by all clients together", maxQueuedAll>>20))
	default:
		return
	}
	*out = (*out)[:0]
}
