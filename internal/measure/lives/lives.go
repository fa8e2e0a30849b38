// Package lives puts what happened to the clients of a run together by client: when each connected, entered, left, was
// gone and came back.
package lives

import (
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// A Life is what is known of when a client did things, in the order of time.
type Life struct {
	Opened, Back, Gone []time.Duration
	EnteredAny         []time.Duration // any room
	Entered, Left      map[ledger.Room][]time.Duration
	Routes             []OnRoute // if there are several
}

// OnRoute is that a client came to be on a route.
type OnRoute struct {
	At   time.Duration
	Name string
}

// Of gives the lives of clients, by the events of a run, which are in the order of time.
func Of(events []logbook.Event) map[ledger.Client]*Life {
	all := map[ledger.Client]*Life{}
	for i := range events {
		e := &events[i]
		v := all[e.Client]
		if v == nil {
			v = &Life{Entered: map[ledger.Room][]time.Duration{}, Left: map[ledger.Room][]time.Duration{}}
			all[e.Client] = v
		}
		switch e.What {
		case logbook.Opened:
			v.Opened = append(v.Opened, e.At)
			if e.Detail != "" {
				v.Routes = append(v.Routes, OnRoute{e.At, e.Detail})
			}
		case logbook.SteppedUp:
			_, to, _ := strings.Cut(e.Detail, " to ")
			v.Routes = append(v.Routes, OnRoute{e.At, to})
		case logbook.CameBack:
			v.Back = append(v.Back, e.At)
		case logbook.Entered:
			v.Entered[e.Room] = append(v.Entered[e.Room], e.At)
			v.EnteredAny = append(v.EnteredAny, e.At)
		case logbook.Left:
			v.Left[e.Room] = append(v.Left[e.Room], e.At)
		case logbook.Closed, logbook.Broke:
			v.Gone = append(v.Gone, e.At)
		}
	}
	for _, v := range all {
		lists := [][]time.Duration{v.Opened, v.Back, v.Gone, v.EnteredAny}
		for _, in := range []map[ledger.Room][]time.Duration{v.Entered, v.Left} {
			for _, list := range in {
				lists = append(lists, list)
			}
		}
		for _, list := range lists {
			slices.Sort(list)
		}
	}
	return all
}

// Since is how long before an instant the last of some times was, in seconds; NaN if there was none.
func Since(times []time.Duration, at time.Duration) float64 {
	i := sort.Search(len(times), func(i int) bool { return times[i] > at })
	if i == 0 {
		return math.NaN()
	}
	return (at - times[i-1]).Seconds()
}

// Until is how long after an instant the next of some times is, in seconds; NaN if there is none.
func Until(times []time.Duration, at time.Duration) float64 {
	i := sort.Search(len(times), func(i int) bool { return times[i] >= at })
	if i == len(times) {
		return math.NaN()
	}
	return (times[i] - at).Seconds()
}
