package account

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// A catching is when a client that is back got the last so far of what it had missed.
type catching struct{ since, last mono.Time }

// catches books that a client got something that it had missed.
func (a *Account) catches(c ledger.Client, at mono.Time) {
	since := a.ledger.AwaySince(c)
	k := a.catching[c]
	if k.since != since { // it was away before, too
		a.hasCaughtUp(k)
		k = catching{since: since}
	}
	k.last = max(k.last, at)
	a.catching[c] = k
}

// hasCaughtUp books how long a client took to catch up, if it had anything to.
func (a *Account) hasCaughtUp(k catching) {
	if k.last != 0 {
		a.book.Now().Times[logbook.ToCatchUp].Record(max(0, k.last.Sub(k.since)))
	}
}

// settleCatching books it of those to whom nothing more of it can come.
func (a *Account) settleCatching(now mono.Time) {
	for c, k := range a.catching {
		if now == mono.Never || k.last.Add(a.trial.Grace) <= now {
			a.hasCaughtUp(k)
			delete(a.catching, c)
		}
	}
}
