package engine

import (
	"fmt"

	"tidepull/internal/client"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// gauges are how many of a share's clients are where. They are counted when a client's standing changes: with many
// clients, going through all of them four times a second would keep a loop from its sockets.
type gauges struct {
	standing []standing // by client
	all      [numStandings]int64
}

// A standing is where a client is: a sum of the following, and how it is connected.
type standing uint8

const (
	isOut  standing = 1 << iota // it has set out, and is not gone
	isAway                      // its connection broke, and it is on its way back
	isOpen                      // it is connected, over the transport in the bits above
	byWay                       // the first of these bits
)

const numStandings = int(byWay) * logbook.NumTransports

func standingOf(c *client.Client, t *trial.Target) standing {
	if c.Idle() {
		return 0
	}
	at := isOut
	if c.Away() {
		at |= isAway
	}
	if c.Open() {
		at |= isOpen | byWay*standing(t.Route(c.Route()).Transport())
	}
	return at
}

// sees counts a client anew, to which something has happened.
func (g *gauges) sees(i int32, at standing) {
	if was := g.standing[i]; at != was {
		g.all[was]--
		g.all[at]++
		g.standing[i] = at
	}
}

// verify panics if a client is not where it was counted.
func (g *gauges) verify(clients []client.Client, t *trial.Target) {
	for i := range clients {
		if at := standingOf(&clients[i], t); at != g.standing[i] {
			panic(fmt.Sprintf("engine: client %d of the share is at %b, and was counted at %b", i, at, g.standing[i]))
		}
	}
}

// book writes how things stand into a second.
func (g *gauges) book(p *logbook.Page) {
	p.Gauges, p.Counts.Routes.On, p.Counts.Returns.Away = logbook.Gauges{}, [logbook.NumTransports]int64{}, 0
	for at, n := range g.all {
		if at := standing(at); at&isOut != 0 {
			p.Gauges.Out += int(n)
			if at&isAway != 0 {
				p.Counts.Returns.Away += n
			}
			if at&isOpen != 0 {
				p.Gauges.Open += int(n)
				p.Counts.Routes.On[at/byWay] += n
			}
		}
	}
}

// out is how many have set out and are not gone.
func (g *gauges) out() (n int64) {
	for at, clients := range g.all {
		if standing(at)&isOut != 0 {
			n += clients
		}
	}
	return n
}
