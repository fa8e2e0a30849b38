package logbook

// DoubtCounts are those of the same names in Counts that the tool, or its machine, may have
// caused: something did not come in time, and in the meantime one of them was too far behind
// to tell, see the engine's doubtful. What is counted and not in doubt is the server's doing,
// whatever else was going on.
type DoubtCounts struct {
	Refused, Denied, Broken int64
	Missed, Unheard         int64
	Failed                  int64 // checks of any kind
	Hasty, Kept, TooLate    int64 // of PulseCounts
	GaveUp                  int64 // of ReturnCounts, with StillAway
	Unprovoked              int64 // of ReturnCounts
}

// sureFigures says what of some figures is certainly the server's doing.
func sureFigures(all map[string]*Figure) {
	for name, doubt := range map[string]func(*DoubtCounts) int64{
		"clients.refused":     func(d *DoubtCounts) int64 { return d.Refused },
		"clients.denied":      func(d *DoubtCounts) int64 { return d.Denied },
		"clients.broken":      func(d *DoubtCounts) int64 { return d.Broken },
		"expectations.missed": func(d *DoubtCounts) int64 { return d.Missed },
		"requests.unanswered": func(d *DoubtCounts) int64 { return d.Unheard },
		"pulse.hasty":         func(d *DoubtCounts) int64 { return d.Hasty },
		"pulse.not_evicted":   func(d *DoubtCounts) int64 { return d.Kept },
		"pulse.evicted_late":  func(d *DoubtCounts) int64 { return d.TooLate },
		"returns.gave_up":     func(d *DoubtCounts) int64 { return d.GaveUp },
		"returns.unprovoked":  func(d *DoubtCounts) int64 { return d.Unprovoked },
	} {
		f := all[name]
		f.sure = func(total, _ *Window) float64 { return f.of(total) - float64(doubt(&total.Counts.Doubt)) }
	}
	all["ledger.lost"].sure = func(total, _ *Window) float64 { return float64(total.SurelyLost) }
	// What failed because nothing came is in doubt or not one by one; what came and was wrong is
	// judged by the second in which it did.
	failed := func(total, clean *Window) int64 {
		waits := total.Counts.WaitsFailed - total.Counts.Doubt.Failed
		return waits + clean.ChecksFailed() - clean.Counts.WaitsFailed
	}
	all["checks.failed"].sure = func(total, clean *Window) float64 { return float64(failed(total, clean)) }
	all["checks.failed_otherwise"].sure = func(total, clean *Window) float64 {
		return float64(failed(total, clean) - (total.Counts.Missed - total.Counts.Doubt.Missed))
	}
}
