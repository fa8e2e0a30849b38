package run

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine/workers"
)

// Processes says which processes served a run's clients, besides the one that kept its account.
type Processes struct {
	Workers int `json:"workers"` // 0: the clients were in the process with the account
	// Machines are those that the workers were on; none: this one.
	Machines []MachineSummary `json:"machines,omitempty"`
	Lost     []workers.Lost   `json:"lost"`
	Waited   int              `json:"batches_waited"` // of facts, as the account was behind
}

// A MachineSummary is one of the machines that served a run.
type MachineSummary struct {
	Name    string `json:"name"`
	Workers int    `json:"workers"`
	// ClockOff is by how much its clock may have been off this machine's at the most, in microseconds. What passes
	// between two machines is known to within what theirs are off by, together.
	ClockOff float64 `json:"clock_off_us"`
}

// Across says between which machines the clients were, and how well what passed between them is known; "" if they were
// on this one.
func (p *Processes) Across() string {
	var all []string
	for _, m := range p.Machines {
		all = append(all, fmt.Sprintf("%s (%s, clock within %s)", plain.Text(m.Name, 60), units.Plural(m.Workers,
			"worker"), units.Duration(time.Duration(m.ClockOff*float64(time.Microsecond)))))
	}
	if len(all) == 0 {
		return ""
	}
	return strings.Join(all, ", ") + ": latencies between them are known to within what both clocks may be off by"
}

// Apart is by how much the clocks of two of the machines may have been off, together.
func (p *Processes) Apart() time.Duration {
	var most, next float64
	for _, m := range p.Machines {
		if m.ClockOff > most {
			most, next = m.ClockOff, most
		} else {
			next = max(next, m.ClockOff)
		}
	}
	if next == 0 {
		return 0
	}
	return time.Duration((most + next) * float64(time.Microsecond))
}

// Words say which workers were lost, one in a sentence.
func (p *Processes) Words() (all []string) {
	for _, l := range p.Lost {
		who := fmt.Sprint("worker ", l.Worker)
		if l.Machine != "" {
			who += " on " + plain.Text(l.Machine, 60)
		}
		all = append(all, fmt.Sprintf("%s %s at %s: nothing is known of its %s from then on, and nobody is "+
			"blamed "+
			"for what became of them", who, l.Why, units.Clock(l.At), units.Plural(l.Clients, "client")))
	}
	return all
}

// whole is with a list in place of none.
func (p Processes) whole() Processes {
	if p.Lost == nil {
		p.Lost = []workers.Lost{}
	}
	return p
}

// missingClients takes back what a run that lost a worker would blame the server for, though it may be the missing
// clients' doing: checks, of what others should have said and of the run's figures.
func (s *Snapshot) missingClients() {
	if len(s.Processes.Lost) == 0 {
		return
	}
	s.Judgements = slices.Clone(s.Judgements) // earlier snapshots share them
	for i := range s.Judgements {
		if j := &s.Judgements[i]; j.Verdict == Broken && strings.HasPrefix(j.Limit.Figure, "checks.") {
			j.Verdict, j.Why = NotProven, s.Processes.Words()[0]
		}
	}
}
