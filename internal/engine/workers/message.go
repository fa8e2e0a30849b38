// Package workers lets the shares of one run live in several processes, on one machine or on several. The lead has
// the account; each worker has some of the shares. They meet at a NATS server: one that the lead embeds, on loopback
// for one machine, or one that is there. What they say to each other, by subjects of the run (tidepull.run.RUN.):
//
//	join.W     worker to lead, a request: it is there. The answer is what it is to do.
//	ready.W    worker to lead: it could begin, or why it cannot.
//	begin      lead to workers: the instant at which the run begins.
//	facts.W    worker to lead: batches of facts (package fact), numbered, at most credit of them on their way; and an
//	           empty one of the lead's own behind them, if the worker's process has ended.
//	credit.W   lead to worker: one of them was worked through.
//	notes.W    to worker W: notes for one of its shares, numbered by sender; notes.-1: for the conductor, at the lead.
//	orders     lead to workers: stop, or a fault by hand; numbered.
//	done.W     worker to lead: its shares have ended, and how.
//	ended      machine to lead: the process of a worker there has ended.
//	clock      machine to lead, a request: what time it is there (package clocks asks directly if it can).
//
// NATS forgets what a slow reader does not take, without a word. So whatever must not be missing is numbered, and a
// gap fails the run; and facts, of which there are many, are sent against credits, so that no reader is slow: a
// worker whose credits are used up holds its facts back, which delays its own loop, and is seen and counted as the
// tool's own doing. Notes have a connection of their own, so that no barrier waits behind facts.
//
// All times are of the lead's monotonic clock, and count from the start of the run. The processes of its machine share
// that clock; those of others follow it (machine.Follow), and each batch says by how much they may be off.
package workers

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/nats-io/nats.go"

	"tidepull/internal/engine"
	"tidepull/internal/measure/fact"
	"tidepull/internal/trial"
)

// credit is how many batches of a worker may be on their way.
const credit = 32

// lead stands for the lead as a sender of notes.
const lead = -1

// A Begin says when the run begins.
type begin struct {
	At int64 // as machine.Instant gives it
}

// A ready says that a worker could begin, or why it cannot.
type ready struct {
	Wrong       string
	KernelTimes bool   // its kernel stamps what arrives
	Line        uint64 // the one for facts, as the server numbers them
}

// An order is what the lead wants of all workers.
type order struct {
	Seq   uint64
	Stop  bool
	Abort bool         // end at once
	Fault *trial.Fault // begins, or ends
	On    bool
}

// A done says how a worker's shares have ended.
type done struct {
	Wrong      string // "": as they should
	NotReached bool   // the target could not be reached
	Waited     int    // batches that had to wait for a credit
}

// inRun is a subject of a run.
func inRun(run, what string) string { return "tidepull.run." + run + "." + what }

// line is the subject of what goes to or comes from one worker of a run.
func line(run, what string, worker int) string { return inRun(run, fmt.Sprintf("%s.%d", what, worker)) }

// A counter sees to it that nothing is missing of what is numbered from 1.
type counter struct{ last uint64 }

func (c *counter) follows(seq uint64, what string) error {
	if seq != c.last+1 {
		return fmt.Errorf("%d %s are missing between the run's processes (number %d came after %d): its figures would "+
			"be wrong", int64(seq-c.last-1), what, seq, c.last)
	}
	c.last = seq
	return nil
}

var errShort = errors.New("workers: a message between the run's processes is cut off")

// appendFacts encodes a batch of a share.
func appendFacts(dst []byte, seq uint64, share int, b *fact.Batch) []byte {
	dst = binary.AppendUvarint(dst, seq)
	dst = binary.AppendUvarint(dst, uint64(share))
	return fact.AppendBatch(dst, b)
}

func parseFacts(b []byte) (seq uint64, share int, batch fact.Batch, err error) {
	seq, share, b, err = parseHead(b)
	if err == nil {
		batch, err = fact.ParseBatch(b)
	}
	return seq, share, batch, err
}

// appendNote encodes a note for a share.
func appendNote(dst []byte, from int, seq uint64, share int, n fact.Note) []byte {
	dst = binary.AppendUvarint(dst, uint64(from+1))
	dst = binary.AppendUvarint(dst, seq)
	dst = binary.AppendUvarint(dst, uint64(share-engine.Conductor))
	return fact.AppendNotes(dst, []fact.Note{n})
}

func parseNote(b []byte) (from int, seq uint64, share int, notes []fact.Note, err error) {
	f, n := binary.Uvarint(b)
	if n <= 0 || f > trial.MaxLoops {
		return 0, 0, 0, nil, errShort
	}
	seq, share, b, err = parseHead(b[n:])
	if err == nil {
		notes, err = fact.ParseNotes(b)
	}
	return int(f) - 1, seq, share + engine.Conductor, notes, err
}

func parseHead(b []byte) (seq uint64, share int, rest []byte, err error) {
	seq, n := binary.Uvarint(b)
	if n <= 0 {
		return 0, 0, nil, errShort
	}
	s, m := binary.Uvarint(b[n:])
	if m <= 0 || s > trial.MaxLoops {
		return 0, 0, nil, errShort
	}
	return seq, int(s), b[n+m:], nil
}

// say publishes a value as JSON.
func say(nc *nats.Conn, subject string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("workers: %s: %w", subject, err)
	}
	return nc.Publish(subject, b)
}

// respond answers a request with a value as JSON. Who asked and hears nothing asks again.
func respond(m *nats.Msg, v any) {
	if b, err := json.Marshal(v); err == nil {
		_ = m.Respond(b)
	}
}

// hear calls f with each value that is published as JSON. Nothing that comes is dropped on this side.
func hear[T any](nc *nats.Conn, subject string, failed func(error), f func(*nats.Msg, T)) error {
	return listen(nc, subject, func(m *nats.Msg) {
		var v T
		if err := json.Unmarshal(m.Data, &v); err != nil {
			failed(fmt.Errorf("workers: %s: %w", subject, err))
			return
		}
		f(m, v)
	})
}

// listen is hear for what is no JSON.
func listen(nc *nats.Conn, subject string, f func(*nats.Msg)) error {
	sub, err := nc.Subscribe(subject, f)
	if err == nil {
		err = sub.SetPendingLimits(-1, -1)
	}
	if err != nil {
		return fmt.Errorf("workers: %s: %w", subject, err)
	}
	return nil
}
