package client

import (
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// Names are those of all clients of a run, by which whispers and announcements know
// them. Once all are added, they may be read by several shares.
type Names struct {
	byID    []string
	byName  map[string]ledger.Client
	sharers map[string][]ledger.Client // of the names that several have
}

// NewNames makes an empty list.
func NewNames() *Names {
	return &Names{byName: map[string]ledger.Client{}, sharers: map[string][]ledger.Client{}}
}

// add adds the name of the next client, by number.
func (n *Names) add(name string, id ledger.Client) {
	n.byID = append(n.byID, name)
	first, taken := n.byName[name]
	switch {
	case !taken:
		n.byName[name] = id
	case len(n.sharers[name]) == 0:
		n.sharers[name] = []ledger.Client{first, id}
	default:
		n.sharers[name] = append(n.sharers[name], id)
	}
}

// Of gives the first client of a name.
func (n *Names) Of(name []byte) (first ledger.Client, known bool) {
	first, known = n.byName[string(name)]
	return first, known
}

// Sharers gives all clients that have the name of one, if there are several.
func (n *Names) Sharers(c ledger.Client) []ledger.Client {
	if len(n.sharers) == 0 {
		return nil
	}
	return n.sharers[n.byID[c]]
}

// SharedName gives a name that several of a trial's clients have, and how many; "" if each has its own.
func SharedName(t *trial.Trial) (name string, clients int) {
	names := NewNames()
	e := NewEnv(t, names, logbook.NewBook(0, len(t.Crews)))
	id := ledger.Client(0)
	for crew, c := range t.Crews {
		for n := range c.Clients {
			e.New(id, uint16(crew), int32(n))
			id++
		}
	}
	for shared, all := range names.sharers {
		if len(all) > clients || len(all) == clients && shared < name {
			name, clients = shared, len(all)
		}
	}
	return name, clients
}
