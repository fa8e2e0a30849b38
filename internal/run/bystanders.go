package run

import (
	"fmt"
	"math"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// An Impact is what something that was done on purpose meant for the clients of one crew that
// it was not done to: how soon they got their messages before it, during it and after it.
type Impact struct {
	What   string        `json:"what"`
	From   time.Duration `json:"from_ns"`
	To     time.Duration `json:"to_ns"`
	Crew   string        `json:"crew"` // the recipients
	Before float64       `json:"before_p50_us"`
	During float64       `json:"during_p50_us"`
	After  float64       `json:"after_p50_us"`
	// Worse is During less Before, and lies with 95 % within PlusMinus of the true
	// difference: both are means of the medians of seconds, and those scatter.
	Worse     float64 `json:"worse_us"`
	PlusMinus float64 `json:"plus_minus_us"`
	Seconds   [3]int  `json:"seconds"` // that each mean is of
}

// Tells reports whether the difference is more than chance.
func (i *Impact) Tells() bool { return math.Abs(i.Worse) > i.PlusMinus }

// Words say it in one line.
func (i *Impact) Words() string {
	text := fmt.Sprintf("p50 %s before, %s during", units.Micros(i.Before), units.Micros(i.During))
	if i.Seconds[2] > 0 {
		text += fmt.Sprintf(", %s after", units.Micros(i.After))
	}
	if !i.Tells() {
		return text + fmt.Sprintf("; no difference beyond chance (± %s)", units.Micros(i.PlusMinus))
	}
	return text + fmt.Sprintf("; %s ± %s %s", units.Micros(math.Abs(i.Worse)), units.Micros(i.PlusMinus),
		map[bool]string{true: "slower", false: "faster"}[i.Worse > 0])
}

// impactWithin is how many seconds before and after something are looked at, at most; and
// leastSeconds how many there must be for a mean to say anything.
const (
	impactWithin = 15
	leastSeconds = 2
)

// A doing is something that was done on purpose, from one second to another.
type doing struct {
	what     string
	from, to time.Duration
}

// Impacts tells of each fault, and of the time in which clients misbehaved, what it meant for
// the latencies of each crew. Seconds in which the tool was the bottleneck do not count, nor
// those before and after in which something else was done.
func Impacts(s *Snapshot) (all []Impact) {
	bad := misbehaving(s)
	done := doings(s)
	for n, d := range done {
		quiet := func(second int) bool { // nothing else was done in it
			from := time.Duration(second) * time.Second
			for k, o := range done {
				if k != n && o.from < from+time.Second && o.to > from {
					return false
				}
			}
			return true
		}
		first, last := int(d.from/time.Second), int((d.to+time.Second-1)/time.Second)
		for crew := range s.Trial.Crews {
			if d.what == byClients && bad[crew] == s.Trial.Crews[crew].Clients {
				continue // there are no others in it
			}
			before := medians(s.Entries, crew, first-impactWithin, first, quiet)
			during := medians(s.Entries, crew, first, last, func(int) bool { return true })
			after := medians(s.Entries, crew, last+1, last+1+impactWithin, quiet)
			if len(before) < leastSeconds || len(during) < leastSeconds {
				continue
			}
			b, spreadB := meter.MeanOf(before)
			m, spreadM := meter.MeanOf(during)
			a, _ := meter.MeanOf(after)
			all = append(all, Impact{What: d.what, From: d.from, To: d.to, Crew: s.Trial.Crews[crew].Name,
				Before: round(b), During: round(m), After: round(a), Worse: round(m - b),
				PlusMinus: round(2 * math.Sqrt(spreadB+spreadM)), Seconds: [3]int{len(before), len(during),
					len(after)}})
		}
	}
	return all
}

// byClients is what clients that misbehave do, all of them together.
const byClients = "clients that misbehave"

// misbehaving counts the clients of each crew that misbehaved.
func misbehaving(s *Snapshot) map[int]int {
	all, crews := map[ledger.Client]bool{}, map[int]int{}
	for i := range s.Events {
		if e := &s.Events[i]; e.What == logbook.Misbehaved && !all[e.Client] {
			all[e.Client] = true
			crews[s.CrewOf(e.Client)]++
		}
	}
	return crews
}

// doings lists what was done on purpose: faults, and clients that misbehave, all of them
// together.
func doings(s *Snapshot) (all []doing) {
	for _, h := range s.Happened {
		to := h.To
		if to == 0 {
			to = s.Elapsed
		}
		all = append(all, doing{"fault " + h.Name, h.From, to})
	}
	began := map[ledger.Client]bool{}
	var from, to time.Duration
	for i := range s.Events {
		switch e := &s.Events[i]; e.What {
		case logbook.Misbehaved:
			if len(began) == 0 && from == 0 {
				from = e.At
			}
			began[e.Client] = true
			to = max(to, e.At)
		case logbook.Evicted, logbook.Closed, logbook.Broke:
			if began[e.Client] {
				delete(began, e.Client)
				to = max(to, e.At)
			}
		}
	}
	if len(began) > 0 {
		to = s.Elapsed
	}
	if to > 0 {
		all = append(all, doing{byClients, from, to})
	}
	return all
}

// medians gives the median latency of a crew's deliveries, in microseconds, of each second
// from one up to another that counts.
func medians(entries logbook.Seconds, crew, from, to int, counts func(second int) bool) (all []float64) {
	for _, e := range entries.Between(from, to) {
		if !e.KeptUp() || !counts(e.At) {
			continue
		}
		h, err := e.CrewLatency(crew)
		if err != nil {
			return nil
		}
		if h.Count() > 0 {
			all = append(all, logbook.Micros(h.Quantile(0.5)))
		}
	}
	return all
}

// A Comeback is how those clients came back that lost their connection from when a fault began up to
// the next one.
type Comeback struct {
	Fault string        `json:"fault"`
	From  time.Duration `json:"from_ns"`
	Broke int64         `json:"broke"`
	// Noticed is from when the fault began to a client finding its connection broken.
	Noticed meter.Latencies `json:"noticed"`
	Back    meter.Latencies `json:"back"` // from the break to being in all rooms again, of those that are back
}

// Words say it in one line.
func (c *Comeback) Words() string {
	if c.Back.Count == 0 {
		return fmt.Sprintf("%d broke, none of them is back", c.Broke)
	}
	return fmt.Sprintf("%d broke, %d of them are back: p50 %s, the last %s; noticed within %s", c.Broke, c.Back.Count,
		units.Micros(c.Back.P50), units.Micros(c.Back.Max), units.Micros(c.Noticed.Max))
}

// Comebacks tells of each fault how the clients came back that it cut off, so that the return
// of a crowd can be held against that of a single one.
func Comebacks(s *Snapshot) (all []Comeback) {
	if len(s.Happened) == 0 {
		return nil
	}
	hists, noticed := make([]meter.Hist, len(s.Happened)), make([]meter.Hist, len(s.Happened))
	broke := make([]int64, len(s.Happened))
	type open struct {
		at    time.Duration
		fault int
	}
	away := map[ledger.Client]open{}
	for i := range s.Events {
		switch e := &s.Events[i]; e.What {
		case logbook.Broke:
			fault := -1
			for k, h := range s.Happened { // they are in the order of time
				if h.From <= e.At {
					fault = k
				}
			}
			if fault >= 0 {
				broke[fault]++
				noticed[fault].Record(e.At - s.Happened[fault].From)
				away[e.Client] = open{e.At, fault}
			}
		case logbook.CameBack:
			if o, was := away[e.Client]; was {
				hists[o.fault].Record(e.At - o.at)
				delete(away, e.Client)
			}
		}
	}
	for i, h := range s.Happened {
		if broke[i] > 0 {
			all = append(all, Comeback{h.Name, h.From, broke[i], noticed[i].Latencies(), hists[i].Latencies()})
		}
	}
	return all
}
