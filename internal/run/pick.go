package run

import (
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
)

// picked is how many clients are picked where more would do.
const picked = 5

// PickClients finds the clients that a text names, for their lanes: names
// separated by commas, a crew, a room, or "problems" (also ""), for which it gives
// none: they are those around what went wrong (Around).
func (s *Snapshot) PickClients(text string) (clients []ledger.Client, label string, err error) {
	text = strings.TrimSpace(text)
	if text == "" || text == "problems" {
		return nil, "", nil
	}
	for i, c := range s.Trial.Crews {
		if c.Name == text {
			var records []lane.Record
			for _, r := range s.Lanes {
				if s.CrewOf(r.Client) == i {
					records = append(records, r)
				}
			}
			return lane.Busy(records, picked), "crew " + text, nil
		}
	}
	for i, name := range s.Rooms {
		if name == text {
			return lane.In(s.Lanes, ledger.Room(i), picked), "room " + text, nil
		}
	}
	for _, name := range strings.Split(text, ",") {
		name = strings.TrimSpace(name)
		found := false
		for id, other := range s.Names {
			if other == name && len(clients) < lane.MaxLanes {
				clients, found = append(clients, ledger.Client(id)), true
				break
			}
		}
		if !found {
			return nil, "", fmt.Errorf("there is no client, crew or room %q", plain.Text(name, 60))
		}
	}
	return clients, "by name", nil
}

// Around picks the clients around something that went wrong, or, where focus is
// nil, those with the most kept.
func (s *Snapshot) Around(focus *lane.Record) (clients []ledger.Client, label string) {
	if focus == nil {
		return lane.Busy(s.Lanes, picked), "with the most kept"
	}
	what := focus.What.String()
	if focus.What == lane.Got {
		what = focus.Fate.String()
	}
	if focus.What == lane.Got || focus.What == lane.Lost {
		what = fmt.Sprintf("message %d, %s", focus.Number, what)
	}
	if focus.What != lane.Got && focus.What != lane.Lost {
		what = fmt.Sprintf("%s: %s", plain.Text(s.ClientName(focus.Client), 30), what)
	}
	return lane.Around(s.Lanes, *focus, picked), "around " + what
}
