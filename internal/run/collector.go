package run

import (
	"maps"
	"slices"
	"time"

	"tidepull/internal/engine/account"
	"tidepull/internal/finding"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// A Collector sums up the reports of an engine to snapshots. It has one owner.
type Collector struct {
	clean    *logbook.Window // of the last snapshot
	perOpen  float64
	mostOpen int
	past     *Past
	apart    time.Duration // by how much the clocks of two machines may have been off, together
	events   []logbook.Event
	lanes    []lane.Record
	bodies   []lane.Body
	differ   []account.Difference
	near     sums // of the past and of resting
	// resting are the open seconds, the oldest first, that were the same in the last two
	// reports: most of them only wait for the grace time to be over.
	resting []*logbook.Entry
	open    []*logbook.Entry // of the last report
	found   []finding.Finding
	findAt  time.Duration // when it is looked for findings next
}

// findEvery is how often it is looked for findings while a run goes on, at most; and findShare which part of the time
// it may take, unless it was last done findRarely ago: then it may take four times as much.
const (
	findEvery  = 2 * time.Second
	findRarely = 30 * time.Second
	findShare  = 400
)

// find gives the findings of a snapshot, or of one a moment ago.
func (c *Collector) find(s *Snapshot) []finding.Finding {
	if s.Elapsed >= c.findAt {
		began := time.Now()
		c.found = s.Find()
		took := time.Since(began)
		c.findAt = s.Elapsed + max(findEvery, min(findShare*took, findRarely), findShare/4*took)
	}
	return c.found
}

// sums are what some seconds add up to: all of it, and without those in which the tool was
// the bottleneck.
type sums struct{ total, clean *logbook.Window }

func newSums() sums { return sums{&logbook.Window{}, &logbook.Window{}} }

func (s sums) clone() sums { return sums{s.total.Clone(), s.clean.Clone()} }

func (s sums) add(entries ...*logbook.Entry) error { return add(entries, s.total, s.clean) }

// take sums up the seconds of a report.
func (c *Collector) take(r *account.Report) (all sums, err error) {
	if err := c.past.Add(r.Closed, r.Open); err != nil {
		return all, err
	}
	same := true
	for _, e := range r.Closed {
		if len(c.resting) == 0 { // nothing rests that may have been this one
			same = false
			break
		}
		same = same && c.resting[0].Same(e)
		c.resting = c.resting[1:]
	}
	for i, e := range c.resting {
		same = same && i < len(r.Open) && e.Same(r.Open[i])
	}
	if !same || c.near.total == nil {
		c.near, c.resting = c.past.sums.clone(), nil
	}
	last := c.open
	for len(last) > 0 && len(r.Open) > 0 && last[0].At < r.Open[0].At {
		last = last[1:]
	}
	for n := len(c.resting); n < min(len(last), len(r.Open)) && last[n].Same(r.Open[n]); n++ {
		if err := c.near.add(r.Open[n]); err != nil {
			return all, err
		}
		c.resting = append(c.resting, r.Open[n])
	}
	c.open = r.Open
	all = c.near.clone()
	return all, all.add(r.Open[len(c.resting):]...)
}

// NewCollector makes one for a run that has just begun, which is held against limits.
func NewCollector(limits []trial.Limit, grace time.Duration) *Collector {
	c := &Collector{past: NewPast(limits, grace)}
	c.past.Pack = true
	return c
}

// Add takes the next report, with what the server's process used so far, and gives the run as it stands.
func (c *Collector) Add(r account.Report, server []Sample) (*Snapshot, error) {
	c.events = append(c.events, r.Events...)
	c.lanes, c.bodies = append(c.lanes, r.Lanes...), append(c.bodies, r.Bodies...)
	c.differ = append(c.differ, r.Differences...)
	c.apart = max(c.apart, r.Apart)
	all, err := c.take(&r)
	if err != nil {
		return nil, err
	}
	if all.total.Total.Lost > 0 { // most of the time there is nothing to look for
		all.total.SurelyLost = c.past.surelyLost(r.Open)
	}
	if open := all.total.Most.Open; open > c.mostOpen && r.Grown > 0 {
		c.mostOpen = open
		if open >= leastForMemory {
			c.perOpen = float64(r.Grown) / float64(open)
		}
	}
	s := &Snapshot{Elapsed: r.Elapsed, Leg: r.Leg, Entries: append(slices.Clip(c.past.Seconds), r.Open...),
		Total: all.total,
		Rooms: r.Rooms, Names: r.Names, Events: slices.Clip(c.events), Lanes: slices.Clip(c.lanes),
		Bodies: slices.Clip(c.bodies), Differences: slices.Clip(c.differ), Sent: r.Sent, Got: r.Got,
		Reasons: maps.Clone(r.Reasons), Kept: r.Kept,
		Sampled: r.Sampled, Said: r.Said, Unkept: r.Unkept, Held: r.Held, RSSPerOpen: c.perOpen, Server: server}
	c.clean = all.clean
	c.judge(s)
	return s, nil
}

// judge holds a snapshot against the limits, with what its server used.
func (c *Collector) judge(s *Snapshot) {
	s.Total.Server = UseOf(s.Server, s.Entries, s.Finished)
	if c.clean != nil {
		c.clean.Server = s.Total.Server
		ev := c.past.evidence(sums{s.Total, c.clean}, c.open)
		ev.Apart = c.apart
		s.Judgements = Judge(c.past.limits, ev)
		s.certain = certainBy(ev)
	}
}

// leastForMemory is how many clients must have been open before the memory of
// one can be separated from the process's fixed cost.
const leastForMemory = 1000
