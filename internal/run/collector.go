package run

import (
	"maps"
	"slices"
	"time"

	"tidepull/internal/engine/account"
	"tidepull/internal/engine/machine"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// A collector sums up the reports of a run.
type collector struct {
	clean    *logbook.Window // of the last snapshot
	base     int64           // resident memory before the clients set out
	perOpen  float64
	mostOpen int
	closed   []*logbook.Entry
	happened []Happened // faults, so far
	whole    int        // old seconds that stay whole for their sake
	coarse   int        // of them are merged in groups
	events   []logbook.Event
	lanes    []lane.Record
	bodies   []lane.Body
	differ   []account.Difference
	sums     sums // of closed
	near     sums // of closed and of resting
	// resting are the open seconds, the oldest first, that were the same in the last two
	// reports: most of them only wait for the grace time to be over.
	resting []*logbook.Entry
	open    []*logbook.Entry // of the last report
	limits  []trial.Limit
	grace   time.Duration
	quiet   []quietSum // of closed, for each limit on a latency
	surely  int64      // of what was lost in closed, by the server whatever else was wrong
}

// sums are what some seconds add up to: all of it, and without those in which the tool was
// the bottleneck.
type sums struct{ total, clean *logbook.Window }

func newSums() sums { return sums{&logbook.Window{}, &logbook.Window{}} }

func (s sums) clone() sums { return sums{s.total.Clone(), s.clean.Clone()} }

func (s sums) add(entries ...*logbook.Entry) error { return add(entries, s.total, s.clean) }

// take sums up the seconds of a report.
func (c *collector) take(r *account.Report) (all sums, err error) {
	if err := c.sums.add(r.Closed...); err != nil {
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
		c.near, c.resting = c.sums.clone(), nil
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

func (c *collector) add(r account.Report, server []Sample) (*Snapshot, error) {
	c.closed = append(c.closed, r.Closed...)
	if err := c.coarsen(); err != nil {
		return nil, err
	}
	c.events = append(c.events, r.Events...)
	c.lanes, c.bodies = append(c.lanes, r.Lanes...), append(c.bodies, r.Bodies...)
	c.differ = append(c.differ, r.Differences...)
	all, err := c.take(&r)
	if err != nil {
		return nil, err
	}
	if err := c.settle(&r, all.total); err != nil {
		return nil, err
	}
	if open := all.total.Most.Open; open > c.mostOpen && c.base > 0 {
		c.mostOpen = open
		if open >= leastForMemory {
			c.perOpen = max(0, float64(machine.Resident()-c.base)/float64(open))
		}
	}
	s := &Snapshot{Elapsed: r.Elapsed, Leg: r.Leg, Entries: append(slices.Clip(c.closed), r.Open...), Total: all.total,
		Rooms: r.Rooms, Names: r.Names, Events: slices.Clip(c.events), Lanes: slices.Clip(c.lanes),
		Bodies: slices.Clip(c.bodies), Differences: slices.Clip(c.differ), Sent: r.Sent, Got: r.Got,
		Reasons: maps.Clone(r.Reasons), Kept: r.Kept,
		Sampled: r.Sampled, Said: r.Said, Unkept: r.Unkept, Held: r.Held, RSSPerOpen: c.perOpen, Server: server}
	c.clean = all.clean
	c.judge(s)
	return s, nil
}

// settle adds the seconds of a report that are over to what is certain: later ones, which say
// whether it is, are known by now.
func (c *collector) settle(r *account.Report, total *logbook.Window) error {
	n := len(r.Closed)
	entries := slices.Concat(r.Closed, r.Open)
	for _, q := range c.quiet {
		if err := addQuiet(q.sum, q.kept, entries, 0, n); err != nil {
			return err
		}
	}
	if total.Total.Lost > 0 { // most of the time there is nothing to look for
		c.surely += surelyLost(c.grace, entries, 0, n)
		total.SurelyLost = c.surely + surelyLost(c.grace, entries, n, len(entries))
	}
	return nil
}

// judge holds a snapshot against the limits, with what its server used.
func (c *collector) judge(s *Snapshot) {
	s.Total.Server = UseOf(s.Server, s.Entries, s.Finished)
	if c.clean != nil {
		c.clean.Server = s.Total.Server
		s.Judgements = Judge(c.limits, &Evidence{Total: s.Total, Clean: c.clean, quiet: c.quietOf})
	}
}

// Seconds older than fine are merged, group by group, so that memory does not
// grow with every second of a night. They are whole in the store.
const (
	fine  = 3600
	group = 60
)

func (c *collector) coarsen() error {
	for len(c.closed)-c.coarse >= fine+group {
		if c.whole < mostWhole && c.nearFault(c.closed[c.coarse].At) {
			c.coarse, c.whole = c.coarse+group, c.whole+group
			continue
		}
		merged, err := logbook.Coarsen(c.closed[c.coarse : c.coarse+group])
		if err != nil {
			return err
		}
		c.closed = slices.Concat(c.closed[:c.coarse], merged, c.closed[c.coarse+group:]) // snapshots share the old one
		c.coarse += group
	}
	return nil
}

// mostWhole bounds the old seconds that stay whole, as what a fault meant for others is seen in them.
const mostWhole = 1800

// nearFault reports whether the group of seconds that begins with one is of the time of a fault, its first
// minute at most, or so near that the two are compared.
func (c *collector) nearFault(first int) bool {
	for _, h := range c.happened {
		from, to := int(h.From/time.Second), int(h.To/time.Second)
		if h.To == 0 || to > from+60 {
			to = from + 60
		}
		if first+group > from-impactWithin && first <= to+1+impactWithin {
			return true
		}
	}
	return false
}

// leastForMemory is how many clients must have been open before the memory of
// one can be separated from the process's fixed cost.
const leastForMemory = 1000
