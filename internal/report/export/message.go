package export

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/report/chart"
)

// message is what became of one message at each of its recipients.
func (r *Request) message() (sheet, drawing, error) {
	m, err := r.kept()
	if err != nil {
		return sheet{}, nil, err
	}
	title := fmt.Sprintf("Message %d of %s, said at %s", m.Number, plain.Text(r.Run.ClientName(m.Sender), 40),
		units.Instant(time.Duration(m.Sent)))
	if room := r.roomName(m.Room); room != "" {
		title += " in " + room
	}
	s := sheet{Title: title, Unit: "ms where a name ends in _ms", Header: []string{"recipient", "fate", "latency_ms",
		"why"}}
	t := &chart.Table{Title: title, Notes: append(r.notes(), fmt.Sprintf("%s of %s have it",
		units.Count(int64(m.Reached)),
		units.Count(int64(m.Owed)))), Header: []string{"recipient", "fate", "latency"}}
	all := slices.Clone(m.Outcomes)
	slices.SortStableFunc(all, func(a, b ledger.Outcome) int {
		return cmp.Or(cmp.Compare(a.Fate.Severity(), b.Fate.Severity()), cmp.Compare(a.Latency, b.Latency))
	})
	for i := range all {
		o := &all[i]
		name := plain.Text(r.Run.ClientName(o.Client), 40)
		row, took := []any{name, o.Fate.String(), nil, o.Why()}, ""
		if o.Latency > 0 {
			row[2], took = ms(o.Latency), units.Duration(o.Latency)
		}
		s.Rows = append(s.Rows, row)
		t.Rows = append(t.Rows, []string{name, o.Fate.String(), took})
	}
	return s, t, nil
}

// kept is the message that was asked for, or the first one with something wrong.
func (r *Request) kept() (*ledger.Message, error) {
	for _, list := range [][]ledger.Message{r.Run.Kept, r.Run.Sampled} {
		for i := range list {
			if r.Message == nil || list[i].Number == *r.Message {
				return &list[i], nil
			}
		}
	}
	if r.Message == nil {
		return nil, fmt.Errorf("no message of the run was kept")
	}
	return nil, fmt.Errorf("message %d was not kept: those with something wrong are, and a sample of the others",
		*r.Message)
}
