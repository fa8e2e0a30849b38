package account

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// A span in which a client changed its route.
type span struct{ from, to mono.Time }

// switches books that a client changes its route.
func (a *Account) switches(c ledger.Client, from, to mono.Time) {
	if a.switched == nil {
		a.switched = map[ledger.Client]span{}
	}
	a.switched[c] = span{from, to}
}

// switching reports whether a client changed its route at an instant, as far as its last
// change is concerned.
func (a *Account) switching(c ledger.Client, at mono.Time) bool {
	s, did := a.switched[c]
	return did && s.from <= at && at <= s.to
}

// atSwitch counts what went wrong with an arrival while its recipient changed its route.
func (a *Account) atSwitch(v *ledger.Verdict, in ledger.Arrival, page *logbook.Page) {
	if len(a.switched) == 0 || v.Fate != ledger.Duplicate && !v.Defects[0] || !a.switching(in.To, in.At) {
		return
	}
	if v.Fate == ledger.Duplicate {
		page.Counts.Routes.DoubledAt++
	}
	if v.Defects[0] {
		page.Counts.Routes.ReorderedAt++
	}
}
