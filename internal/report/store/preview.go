package store

import (
	"database/sql"
	"fmt"
	"time"

	"tidepull/internal/measure/meter"
)

// A Preview is a run in a few rows of figures, by second.
type Preview struct {
	Planned, Open []int
	P50, P99      []time.Duration // of the fan-out; 0 if nothing arrived
}

// longestBand is up to how many seconds a preview has latencies: those of a long
// run take too long to sum up for a glance.
const longestBand = 1800

// Preview reads a run's preview.
func (s *Store) Preview(id int64) (*Preview, error) {
	p := &Preview{}
	err := s.each(func(rows *sql.Rows) error {
		var planned, open int
		err := rows.Scan(&planned, &open)
		p.Planned, p.Open = append(p.Planned, planned), append(p.Open, open)
		return err
	}, "SELECT planned, open FROM second WHERE run = ? ORDER BY at", id)
	if err != nil {
		return nil, fmt.Errorf("looking at run %d: %w", id, err)
	}
	if len(p.Open) > longestBand {
		return p, nil
	}
	hists := make([]meter.Hist, len(p.Open))
	err = s.each(func(rows *sql.Rows) error {
		var at int
		var latency meter.Packed
		if err := rows.Scan(&at, (*packed)(&latency)); err != nil || at >= len(hists) {
			return err
		}
		return hists[at].MergePacked(latency)
	}, "SELECT at, histogram FROM latency WHERE run = ?", id)
	if err != nil {
		return nil, fmt.Errorf("looking at run %d: %w", id, err)
	}
	for i := range hists {
		p50, p99 := time.Duration(0), time.Duration(0)
		if hists[i].Count() > 0 {
			p50, p99 = hists[i].Quantile(0.5), hists[i].Quantile(0.99)
		}
		p.P50, p.P99 = append(p.P50, p50), append(p.P99, p99)
	}
	return p, nil
}
