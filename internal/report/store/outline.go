package store

import (
	"encoding/json"
	"fmt"
	"time"

	"tidepull/internal/trial"
)

// An outline is what a stored run keeps of its trial: enough to show it, not to
// run it again.
type outline struct {
	Name    string      `json:"name"`
	Seed    uint64      `json:"seed"`
	Prompt  int64       `json:"prompt_ns"`
	Grace   int64       `json:"grace_ns"`
	Target  string      `json:"target"`
	URL     string      `json:"websocket"`
	Crews   []crew      `json:"crews"`
	Tide    []trial.Leg `json:"tide"`
	Limits  []limit     `json:"limits"`
	Checks  []check     `json:"checks,omitempty"`
	Feeds   []string    `json:"feeds,omitempty"`
	Closed  bool        `json:"closed_loop,omitempty"`
	Implied bool        `json:"implied,omitempty"`
}

type crew struct {
	Name    string      `json:"name"`
	Clients int         `json:"clients"`
	Tide    []trial.Leg `json:"tide,omitempty"` // its own
}

type check struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

type limit struct {
	Name   string     `json:"name"`
	Figure string     `json:"figure"`
	Rule   trial.Rule `json:"rule"`
	Value  float64    `json:"value"`
}

func outlineOf(t *trial.Trial) (string, error) {
	o := outline{Name: t.Name, Seed: t.Seed, Prompt: int64(t.Prompt), Grace: int64(t.Grace), Target: t.Target.Name,
		URL: t.Hide(t.Target.Address), Closed: t.ClosedLoop, Implied: true, Tide: t.Tide.Legs}
	for _, c := range t.Crews {
		o.Crews = append(o.Crews, crew{c.Name, c.Clients, c.Tide.Legs})
	}
	for _, c := range t.Checks {
		o.Checks = append(o.Checks, check(c))
	}
	for i := range t.Feeds {
		o.Feeds = append(o.Feeds, t.Feeds[i].Name)
	}
	for _, l := range t.Limits {
		o.Limits = append(o.Limits, limit{l.Name, l.Figure, l.Rule, l.Value})
	}
	b, err := json.Marshal(o)
	return string(b), err
}

// readOutline gives the trial, and whether its run was held against the implied
// limits too: those of older versions were not.
func readOutline(s string) (*trial.Trial, bool, error) {
	var o outline
	if err := json.Unmarshal([]byte(s), &o); err != nil {
		return nil, false, fmt.Errorf("the outline of the trial: %w", err)
	}
	t := &trial.Trial{Name: o.Name, Seed: o.Seed, Target: trial.Target{Name: o.Target, Address: o.URL},
		Tide: trial.Tide{Legs: o.Tide}}
	t.Prompt, t.Grace = time.Duration(o.Prompt), time.Duration(o.Grace)
	for _, c := range o.Crews {
		t.Crews = append(t.Crews, trial.Crew{Name: c.Name, Clients: c.Clients, Tide: trial.Tide{Legs: c.Tide}})
	}
	for _, c := range o.Checks {
		t.Checks = append(t.Checks, trial.Check(c))
	}
	for _, name := range o.Feeds {
		t.Feeds = append(t.Feeds, trial.Feed{Name: name})
	}
	t.ClosedLoop = o.Closed
	for _, l := range o.Limits {
		t.Limits = append(t.Limits, trial.Limit{Name: l.Name, Figure: l.Figure, Rule: l.Rule, Value: l.Value})
	}
	return t, o.Implied, nil
}
