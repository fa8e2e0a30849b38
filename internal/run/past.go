package run

import (
	"slices"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// A Past is the seconds of a run that are over, and what limits are held against of them. Those of the last hour are
// kept one by one, older ones by minute: what was summed up before is exact all the same.
type Past struct {
	Seconds  logbook.Seconds
	Happened []Happened // faults, so far: old seconds stay whole for their sake
	sums     sums
	limits   []trial.Limit
	grace    time.Duration
	quiet    []quietSum // for each limit on a latency
	surely   int64      // of what was lost, by the server whatever else was wrong
	settled  int        // entries at the beginning that stay as they are
	Pack     bool       // seconds that are some minutes old are packed, as the run goes on
	packed   int        // up to which second they are
	whole    int        // old seconds that do
}

// NewPast is the past of a run that has just begun, of a trial with these limits and this grace time.
func NewPast(limits []trial.Limit, grace time.Duration) *Past {
	return &Past{sums: newSums(), limits: limits, grace: grace, quiet: quietSums(limits)}
}

// Add adds the seconds that come next and are over, and says what comes after them: whether a loss is certainly the
// server's, and a latency nobody else's, shows in the seconds behind it.
func (p *Past) Add(over, later []*logbook.Entry) error {
	if len(over) == 0 {
		return nil
	}
	n, all := len(over), slices.Concat(over, later)
	in := []summing{{p.sums.total, func(int) bool { return true }, true},
		{p.sums.clean, func(i int) bool { return Clean(over[i]) }, false}}
	for _, q := range p.quiet {
		in = append(in, summing{q.sum, func(i int) bool { return quiet(q.kept, all, i) }, false})
	}
	if err := addTogether(over, in); err != nil {
		return err
	}
	lost := p.sums.total.Total.Lost
	if lost > 0 { // most of the time there is nothing to look for
		p.surely += surelyLost(p.grace, all, 0, n)
	}
	p.Seconds = append(p.Seconds, over...)
	if err := p.pack(); err != nil {
		return err
	}
	return p.coarsen()
}

// lately is how many of the last seconds are not packed: they are looked at all the time.
const lately = 120

// pack packs seconds that have become old.
func (p *Past) pack() error {
	until := p.Seconds.Count() - lately
	if !p.Pack || until <= p.packed {
		return nil
	}
	old := p.Seconds.Between(p.packed, until)
	p.packed = until
	all := slices.Clone(p.Seconds) // snapshots share the one there was
	at := len(all) - lately - len(old)
	for i, e := range old {
		light, err := e.Packed()
		if err != nil {
			return err
		}
		all[at+i] = light
	}
	p.Seconds = all
	return nil
}

// A summing is a sum of those seconds that has says, by their place; late: with what the tool itself sent late.
type summing struct {
	into *logbook.Window
	has  func(i int) bool
	late bool
}

// enoughToMerge is how many seconds are added at a time when a run is opened, at least.
const enoughToMerge = 30

// addTogether adds seconds to several sums. If there are many, those that belong to all of the sums, which most do, are
// unpacked once.
func addTogether(seconds []*logbook.Entry, in []summing) error {
	var common []*logbook.Entry
	is := make([]bool, len(seconds))
	if len(seconds) >= enoughToMerge {
		for i, e := range seconds {
			is[i] = e.SentLate == nil && !slices.ContainsFunc(in, func(s summing) bool { return !s.has(i) })
			if is[i] {
				common = append(common, e)
			}
		}
	}
	var sum *logbook.Entry
	if len(common) > 0 {
		var err error
		if sum, err = logbook.Coarsen(common); err != nil {
			return err
		}
	}
	for _, s := range in {
		if sum != nil {
			if err := s.into.AddMerged(sum); err != nil {
				return err
			}
		}
		for i, e := range seconds {
			var err error
			switch {
			case is[i]:
				s.into.AddBeats(e)
			case s.has(i) && s.late:
				err = s.into.Add(e)
			case s.has(i):
				err = s.into.AddClean(e)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// Behind is how many seconds behind one it takes to know what was to blame for a loss in it.
func (p *Past) Behind() int { return int((p.grace+time.Second-1)/time.Second) + 1 }

// surelyLost is how much the server lost for certain, with what stands now of the seconds that are not over.
func (p *Past) surelyLost(open []*logbook.Entry) int64 {
	return p.surely + surelyLost(p.grace, open, 0, len(open))
}

// quietOf gives the quiet seconds for a limit: those that are over, and those of open; nil: no limit asks for them.
func (p *Past) quietOf(limit float64, open []*logbook.Entry) (*logbook.Window, error) {
	i := slices.IndexFunc(p.quiet, func(q quietSum) bool { return q.kept == quietFor(limit) })
	if i < 0 {
		return nil, nil
	}
	w := p.quiet[i].sum.Clone()
	return w, addQuiet(w, p.quiet[i].kept, open, 0, len(open))
}

// Evidence gathers what limits are held against, of a run that has no more seconds.
func (p *Past) Evidence() *Evidence {
	p.sums.total.SurelyLost = p.surely
	return p.evidence(p.sums, nil)
}

// evidence gathers it out of the sums of all seconds, of which some are open.
func (p *Past) evidence(all sums, open []*logbook.Entry) *Evidence {
	return &Evidence{Total: all.total, Clean: all.clean, quiet: func(limit float64) (*logbook.Window, error) {
		w, err := p.quietOf(limit, open)
		if w == nil && err == nil {
			w = all.clean
		}
		return w, err
	}}
}

// Seconds older than KeptWhole are merged, MergedTogether at a time, so that memory does not grow with every second
// of a night; the store follows.
const (
	KeptWhole      = 3600
	MergedTogether = 60
)

func (p *Past) coarsen() error {
	for len(p.Seconds)-p.settled >= KeptWhole+MergedTogether {
		first, next := p.settled, p.settled+MergedTogether
		if p.Seconds[first].Merged > 0 { // it was read back as it is
			p.settled++
			continue
		}
		if p.whole < mostWhole && p.nearFault(p.Seconds[first].At) {
			p.settled, p.whole = next, p.whole+MergedTogether
			continue
		}
		merged, err := logbook.Coarsen(p.Seconds[first:next])
		if err == nil && p.Pack {
			merged, err = merged.Packed()
		}
		if err != nil {
			return err
		}
		// Snapshots share the old ones.
		p.Seconds = slices.Concat(p.Seconds[:first], logbook.Seconds{merged}, p.Seconds[next:])
		p.settled++
	}
	return nil
}

// mostWhole bounds the old seconds that stay whole, as what a fault meant for others is seen in them.
const mostWhole = 1800

// nearFault reports whether the group of seconds that begins with one is of the time of a fault, its first
// minute at most, or so near that the two are compared.
func (p *Past) nearFault(first int) bool {
	for _, h := range p.Happened {
		from, to := int(h.From/time.Second), int(h.To/time.Second)
		if h.To == 0 || to > from+60 {
			to = from + 60
		}
		if first+MergedTogether > from-impactWithin && first <= to+1+impactWithin {
			return true
		}
	}
	return false
}
