package account

import (
	"maps"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// A departure is what is known of a client that others were told of that it is gone.
type departure struct {
	evicted mono.Time   // when its connection ended; 0: it is not known to have
	early   []mono.Time // when others were told, before that was known
}

// maxEarly bounds the times at which clients were told of ends that are not known yet: when
// everybody goes there are very many.
const maxEarly = 1 << 16

// told books that a client was told at an instant that another one is gone: how long that is
// after its eviction, if it was evicted.
func (a *Account) told(about ledger.Client, at mono.Time) {
	if a.departures == nil {
		return
	}
	f := a.departures[about]
	if f != nil && f.evicted != 0 {
		a.book.Now().Times[logbook.ToTell].Record(max(0, at.Sub(f.evicted)))
		return
	}
	if a.early == maxEarly { // most of them are of clients that went by themselves
		maps.DeleteFunc(a.departures, func(_ ledger.Client, f *departure) bool { return f.evicted == 0 })
		a.early, f = 0, nil
	}
	if f == nil {
		f = &departure{}
		a.departures[about] = f
	}
	f.early = append(f.early, at)
	a.early++
}

// evicted books that a client's connection ended while it misbehaved.
func (a *Account) evicted(c ledger.Client, at mono.Time) {
	if a.departures == nil {
		return
	}
	f := a.departures[c]
	if f == nil {
		f = &departure{}
		a.departures[c] = f
	}
	f.evicted = at
	for _, told := range f.early {
		if told.Add(a.trial.Grace) >= at { // else it was about an earlier end
			a.book.Now().Times[logbook.ToTell].Record(max(0, told.Sub(at)))
		}
	}
	a.early -= len(f.early)
	f.early = nil
}
