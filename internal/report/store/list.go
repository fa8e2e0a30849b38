package store

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/report/versus"
)

// A Filter says which runs of the list are wanted; what is not set does not matter.
type Filter struct {
	Trial   string
	Verdict string // as Outcome gives it
	Search  string // in any case, in what a run is called, was against, and ended by
	Since   time.Time
}

// Is reports whether a filter wants the run.
func (r *Run) Is(f Filter) bool {
	text := strings.ToLower(strings.Join([]string{r.Trial, r.Name, r.Note, r.Target, r.Why}, "\n"))
	return (f.Trial == "" || r.Trial == f.Trial) && (f.Verdict == "" || r.Outcome() == f.Verdict) &&
		strings.Contains(text, strings.ToLower(f.Search)) && !r.Started.Before(f.Since)
}

// Side is the run as one of two that are compared. An error says that its summary cannot be read.
func (r *Run) Side() (*versus.Side, error) {
	s := &versus.Side{Name: fmt.Sprintf("%d %s", r.ID, plain.Text(r.Title(), 40)), Over: len(r.Summary) > 0}
	if !s.Over {
		return s, nil
	}
	if err := json.Unmarshal(r.Summary, &s.Sum); err != nil {
		return nil, fmt.Errorf("the summary of run %d: %w", r.ID, err)
	}
	return s, nil
}

// listed is a run in WriteJSON's list.
type listed struct {
	ID      int64           `json:"run"`
	Trial   string          `json:"trial"`
	Name    string          `json:"name"`
	Note    string          `json:"note"`
	Target  string          `json:"target"`
	Clients int             `json:"clients"`
	Started time.Time       `json:"started"`
	Seconds float64         `json:"seconds"`
	Outcome string          `json:"outcome"`
	Why     string          `json:"why"`
	Summary json.RawMessage `json:"summary"` // null while it goes on, and of one that was cut short
}

// WriteJSON writes runs as a list.
func WriteJSON(w io.Writer, runs []Run) error {
	all := []listed{}
	for i := range runs {
		r := &runs[i]
		l := listed{r.ID, r.Trial, r.Name, r.Note, r.Target, r.Clients, r.Started, r.Elapsed.Seconds(),
			r.Outcome(), r.Why,
			r.Summary}
		if len(r.Summary) == 0 {
			l.Summary = json.RawMessage("null")
		}
		all = append(all, l)
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(all)
}
