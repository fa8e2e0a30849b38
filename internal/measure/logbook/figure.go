package logbook

import (
	"maps"
	"slices"
	"strings"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/meter"
)

// Unit is what a figure counts.
type Unit uint8

// The units. A Duration is in microseconds.
const (
	Count Unit = iota
	Duration
	Ratio // a share in percent, or so many for each of something else
)

// A Figure is one number that can be read off a Window.
type Figure struct {
	Name string
	Unit Unit
	Doc  string
	of   func(*Window) float64
	over func(*Window) *meter.Hist // what a Duration is of
	// self is set if the figure is about the tool, and so is true however
	// busy the tool was.
	self bool
	// certain is set if no slowness of the tool can have caused what the
	// figure counts.
	certain bool
	some    func(*Window) bool // reports whether anything was there to be counted
	// what of it is certainly the server's doing, of everything, in which there is what is not
	// marked; nil: what there is in the latter
	sure func(total, clean *Window) float64
	// what it would be if every arrival had been as early as it can have been; nil: the
	// same
	other func(*Window) float64
}

// Early reads the figure off a window as it would be if every arrival had been as
// early as it can have been. What was measured lies between that and Of.
func (f *Figure) Early(w *Window) float64 {
	if f.other == nil {
		return f.of(w)
	}
	return f.other(w)
}

// Certain reports whether what the figure counts was not caused by any slowness of the tool, so
// that there is no less of it than it says: a duplicate is one, but a message may be late because
// it was sent late.
func (f *Figure) Certain() bool { return f.certain }

// Sure is the part of a count that is certainly the server's doing, whatever the tool or the
// machine did; ok is false if that is not known of the figure.
func (f *Figure) Sure(total, clean *Window) (value float64, ok bool) {
	if f.sure == nil {
		return 0, false
	}
	return f.sure(total, clean), true
}

// Samples is how many a Duration rests on, and how many of them are longer than a limit in
// microseconds; 0 if it does not rest on any.
func (f *Figure) Samples(w *Window, limit float64) (all, beyond int64) {
	if f.over == nil {
		return 0, 0
	}
	f.over(w).EachCount(func(ns int64, n uint32) {
		if all += int64(n); Micros(time.Duration(ns)) > limit {
			beyond += int64(n)
		}
	})
	return all, beyond
}

// Enough is how many samples beyond a limit it takes to say that a Duration is, if others had to
// be left out.
func (f *Figure) Enough() int64 {
	if strings.HasSuffix(f.Name, ".max") {
		return 1
	}
	return 5
}

// Of reads the figure off a window; ok is false if nothing was measured that
// it could be of.
func (f *Figure) Of(w *Window) (value float64, ok bool) {
	switch {
	case f.over != nil:
		ok = f.over(w).Count() > 0
	case f.some != nil:
		ok = f.some(w)
	default:
		ok = true
	}
	return f.of(w), ok
}

// Load reports whether the figure is about the load: it says what the rest was measured under.
func (f *Figure) Load() bool { return strings.HasPrefix(f.Name, "load.") }

// Self reports whether the figure is about the tool and not about the server.
func (f *Figure) Self() bool { return f.self }

var figures = makeFigures()

// FigureNames lists the names of all figures, sorted.
func FigureNames() []string { return slices.Sorted(maps.Keys(figures)) }

// FigureNamed returns the figure of a name, or nil.
func FigureNamed(name string) *Figure { return figures[name] }

func makeFigures() map[string]*Figure {
	all := map[string]*Figure{}
	add := func(name string, unit Unit, doc string, of func(*Window) float64) *Figure {
		f := &Figure{Name: name, Unit: unit, Doc: doc, of: of}
		all[name] = f
		return f
	}
	bounded := func(name, doc string, of, early func(*Window) *meter.Hist) {
		part := func(suffix, what string, read func(*meter.Hist) time.Duration) {
			f := add(name+"."+suffix, Duration, doc+", "+what, func(w *Window) float64 { return Micros(read(of(w))) })
			f.over = of
			if early != nil {
				f.other = func(w *Window) float64 { return Micros(read(early(w))) }
			}
		}
		for suffix, q := range Quantiles {
			part(suffix, suffix, func(h *meter.Hist) time.Duration { return h.Quantile(q) })
		}
		part("mean", "mean", (*meter.Hist).Mean)
		part("max", "the longest", (*meter.Hist).Max)
	}
	bounded("fanout", "fan-out latency of owed deliveries", (*Window).Fanout, (*Window).FanoutEarly)
	bounded("spread.first", "until the first of a message's audience has it",
		func(w *Window) *meter.Hist { return &w.First }, (*Window).FirstEarly)
	bounded("spread.median", "until half of a message's audience has it",
		func(w *Window) *meter.Hist { return &w.Median }, (*Window).MedianEarly)
	bounded("spread.last", "until the last of a message's audience has it",
		func(w *Window) *meter.Hist { return &w.Last }, (*Window).LastEarly)
	for d := range dists {
		var early func(*Window) *meter.Hist
		if _, known := boundedTimes[Dist(d)]; known {
			early = func(w *Window) *meter.Hist { return w.TimesEarly(Dist(d)) }
		}
		bounded(dists[d].name, dists[d].doc, func(w *Window) *meter.Hist { return &w.Times[d] }, early)
	}
	routeFigures(add)
	returnFigures(add)
	pulseFigures(add)
	pathFigures(add)
	serverFigures(add)
	loadFigures(add)
	add("self.path", Duration, "loop time that faults on the path of clients took",
		func(w *Window) float64 { return Micros(w.Path) }).some = func(w *Window) bool { return w.Path > 0 }
	deliveries := func(name string, of func(*ledger.Tally) int64) *Figure {
		f := add("ledger."+strings.ReplaceAll(name, " ", "_"), Count, "deliveries that are "+name,
			func(w *Window) float64 { return float64(of(&w.Total)) })
		f.some = func(w *Window) bool { return w.Total.Owed > 0 }
		return f
	}
	deliveries("owed", func(t *ledger.Tally) int64 { return t.Owed })
	for _, fate := range ledger.Fates {
		f := deliveries(fate.String(), func(t *ledger.Tally) int64 { return *t.Of(fate) })
		f.certain = fate != ledger.Late && fate != ledger.Lost && fate != ledger.Excused
		switch fate {
		case ledger.Late:
			f.other = func(w *Window) float64 { return float64(w.Total.Late - w.Total.MaybeLate) }
		case ledger.Delivered:
			f.other = func(w *Window) float64 { return float64(w.Total.Delivered + w.Total.MaybeLate) }
		}
	}
	for _, c := range []struct {
		name, doc string
		of        func(*Window) int64
	}{
		{"messages.sent", "messages said", func(w *Window) int64 { return w.Counts.Sent }},
		{"messages.notices", "messages said to rooms", func(w *Window) (n int64) {
			for c, t := range w.Cells {
				if c.Kind == ledger.Notice {
					n += t.Said
				}
			}
			return n
		}},
		{"messages.unsent", "messages that were due and could not be said",
			func(w *Window) int64 { return w.Counts.Unsent }},
		{"messages.arrivals", "messages received, of any kind", func(w *Window) int64 { return w.Counts.Arrivals }},
		{"clients.open", "the most connections open at once", func(w *Window) int64 { return int64(w.Most.Open) }},
		{"messages.other_type", "messages that came as text and were said as binary messages, or the other way round",
			func(w *Window) int64 { return w.Counts.OtherType }},
		{"messages.unknown", "messages without a mark that no rule of the dialect recognised",
			func(w *Window) int64 { return w.Counts.Unknown }},
		{"announcements.stray", "announcements that a client joined or left which it did not",
			func(w *Window) int64 { return w.Counts.StrayNews }},
		{"clients.hindered", "connections that could not be opened for want of a local port, file or memory",
			func(w *Window) int64 { return w.Counts.Hindered }},
		{"clients.evicted", "clients that the server closed while they misbehaved on purpose",
			func(w *Window) int64 { return w.Counts.Evicted }},
		{"clients.refused", "connections that never came to be open",
			func(w *Window) int64 { return w.Counts.Refused }},
		{"clients.broken", "open connections that the server ended", func(w *Window) int64 { return w.Counts.Broken }},
		{"clients.denied", "names and rooms refused or not answered", func(w *Window) int64 { return w.Counts.Denied }},
		{"clients.malformed", "connections on which the server broke the protocol",
			func(w *Window) int64 { return w.Counts.Malformed }},
		{"expectations.met", "expectations that were met", func(w *Window) int64 { return w.Counts.Met }},
		{"expectations.missed", "expectations that were not met in time",
			func(w *Window) int64 { return w.Counts.Missed }},
		{"checks.held", "checks of any kind that held", (*Window).ChecksHeld},
		{"checks.failed", "checks of any kind that failed", (*Window).ChecksFailed},
		{"checks.failed_otherwise", "checks that failed, expectations apart",
			func(w *Window) int64 { return w.ChecksFailed() - w.Counts.Missed }},
		{"requests.answered", "HTTP requests that were answered", func(w *Window) int64 { return w.Counts.Requests }},
		{"requests.unanswered", "HTTP requests that were not", func(w *Window) int64 { return w.Counts.Unheard }},
		{"feed.readings", "what the server pushed by itself", func(w *Window) int64 { return w.Counts.Readings }},
		{"feed.gaps", "numbers that are missing in it", func(w *Window) int64 { return w.Counts.Gaps }},
		{"feed.repeats", "what came again of it", func(w *Window) int64 { return w.Counts.Repeats }},
		{"feed.backward", "what came of it after a later one", func(w *Window) int64 { return w.Counts.Backward }},
		{"feed.stale", "what was older than it may be", func(w *Window) int64 { return w.Counts.Stale }},
		{"self.overloaded", "seconds in which the tool was the bottleneck",
			func(w *Window) int64 { return int64(w.Overloaded) }},
	} {
		add(c.name, Count, c.doc, func(w *Window) float64 { return float64(c.of(w)) }).some = somethingFor(c.name)
	}
	sureFigures(all)
	for name, f := range all {
		f.self = strings.HasPrefix(name, "self.") || f.Load()
		switch name {
		case "clients.malformed", "messages.unknown", "messages.other_type", "announcements.stray",
			"feed.repeats", "feed.backward",
			"clients.hindered", // and what happened, happened
			"ledger.owed", "messages.sent", "messages.notices", "messages.arrivals", "clients.open",
			"expectations.met", "checks.held", "requests.answered", "feed.readings":
			f.certain = true
		}
	}
	return all
}

// somethingFor gives what must be there for a count to say anything: that no
// expectation was missed says nothing if there was none.
func somethingFor(name string) func(*Window) bool {
	group, _, _ := strings.Cut(name, ".")
	switch group {
	case "messages":
		return func(w *Window) bool { return w.Counts.Sent+w.Counts.Unsent+w.Counts.Arrivals > 0 }
	case "announcements":
		return func(w *Window) bool { return w.Total.Owed > 0 || w.Counts.Arrivals > 0 }
	case "clients":
		return func(w *Window) bool { return w.Counts.Started > 0 }
	case "expectations":
		return func(w *Window) bool { return w.Counts.Met+w.Counts.Missed > 0 }
	case "checks":
		return func(w *Window) bool { return w.ChecksHeld()+w.ChecksFailed() > 0 }
	case "requests":
		return func(w *Window) bool { return w.Counts.Requests+w.Counts.Unheard > 0 }
	case "feed":
		return func(w *Window) bool { return w.Counts.Readings > 0 }
	}
	return nil
}

// Quantiles are the quantiles that figures are made of, by name.
var Quantiles = map[string]float64{"p50": 0.5, "p90": 0.9, "p99": 0.99, "p999": 0.999}

// Micros gives a duration in microseconds.
func Micros(d time.Duration) float64 { return float64(d) / float64(time.Microsecond) }
