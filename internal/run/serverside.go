package run

import (
	"errors"
	"fmt"
	"net"
	"syscall"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/wire"
)

// A ServerLine is one line that the server wrote, and when.
type ServerLine struct {
	At   time.Duration `json:"at_ns"` // since the start of the run; less than 0 before it
	Text string        `json:"text"`
}

// A ServerSide is what is known of the server's end of a run, besides what its process used.
type ServerSide struct {
	Lines []ServerLine `json:"lines"` // the last that it wrote, the oldest first
	// Ended says that its process ended by itself: how, and when. Only of one that the trial started.
	Ended   string        `json:"ended"`
	EndedAt time.Duration `json:"ended_at_ns"`
	// Listens says that somebody listened at the target at the end of the run all the same: what ended was a command
	// that had started the server.
	Listens bool `json:"listens"`
	// Deaf says that at the end of the run nobody listened at the target any more, DeafSince when it was last heard of.
	Deaf      bool          `json:"deaf"`
	DeafSince time.Duration `json:"deaf_since_ns"`
}

// mostLines bounds what is kept of the server's output with a run.
const mostLines = 1000

// serverSide gives what the server wrote so far, and whether it has ended.
func (b *breaker) serverSide() (s ServerSide) {
	if b == nil || b.server == nil {
		return s
	}
	start := time.Now().Add(-b.since())
	all := b.server.Wrote()
	for _, l := range all[max(0, len(all)-mostLines):] {
		s.Lines = append(s.Lines, ServerLine{l.At.Sub(start), l.Text})
	}
	if e := b.server.Ended(); e != nil {
		s.Ended, s.EndedAt = e.How, e.At.Sub(start)
	}
	return s
}

// listens looks, at the end of a run in which connections broke, were refused, or the server's command ended, whether
// anybody listens at the target.
func (s *Snapshot) listens(t *wire.Endpoint) {
	c := &s.Total.Counts
	if c.Broken+c.Refused == 0 && s.ServerSide.Ended == "" {
		return
	}
	conn, err := net.DialTimeout("tcp", t.Addr.String(), time.Second)
	if err == nil {
		conn.Close()
		s.ServerSide.Listens = true
		return
	}
	if !errors.Is(err, syscall.ECONNREFUSED) {
		return
	}
	s.ServerSide.Deaf = true
	for i := range s.Events {
		switch e := &s.Events[i]; e.What {
		case logbook.Opened, logbook.Broke, logbook.Evicted, logbook.CameBack:
			s.ServerSide.DeafSince = max(s.ServerSide.DeafSince, e.At)
		}
	}
}

// Words says what became of the server, in one sentence for each thing; none if it runs.
func (s *ServerSide) Words() (all []string) {
	switch {
	case s.Ended != "" && s.Listens:
		all = append(all, fmt.Sprintf("the command that starts the server ended at %s (%s); somebody listens at the "+
			"target",
			units.Instant(s.EndedAt), s.Ended))
	case s.Ended != "":
		all = append(all, fmt.Sprintf("the server ended by itself at %s: %s", units.Instant(s.EndedAt), s.Ended))
	}
	if s.Deaf {
		since := ""
		if s.DeafSince > 0 {
			since = " since " + units.Clock(s.DeafSince)
		}
		all = append(all, "nobody has listened at the target"+since)
	}
	return all
}

// Last gives the last lines that the server wrote, in words with their times.
func (s *ServerSide) Last(n int) (all []string) {
	for _, l := range s.Lines[max(0, len(s.Lines)-n):] {
		all = append(all, fmt.Sprintf("%s %s", signed(l.At), l.Text))
	}
	return all
}

// signed is an instant that may be before the start of the run.
func signed(at time.Duration) string {
	if at < 0 {
		return "-" + units.Instant(-at)
	}
	return units.Instant(at)
}

// inSummary bounds the lines in a summary.
const inSummary = 40

// brief is what stands in a summary: the last lines alone.
func (s ServerSide) brief() ServerSide {
	s.Lines = append([]ServerLine{}, s.Lines[max(0, len(s.Lines)-inSummary):]...)
	return s
}
