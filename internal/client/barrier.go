package client

import (
	"slices"

	"tidepull/internal/base/mono"
	"tidepull/internal/trial"
)

// among tells with whom a client waits at a barrier: clients with the same
// number wait for each other.
func (e *Env) among(c *Client, b *trial.Barrier) int32 {
	switch b.Scope {
	case trial.AmongCrew:
		return int32(c.crew)
	case trial.AmongGroup:
		return int32(c.crew)<<20 | c.n/int32(max(1, e.Trial.Crews[c.crew].Groups))
	}
	return 0
}

// waitForOthers makes the client wait at a barrier; false if it need not.
func (c *Client) waitForOthers(e *Env, now mono.Time, s *trial.Step) bool {
	waiting, key := e.barriers[s.Barrier], e.among(c, &e.Trial.Barriers[s.Barrier])
	waiting[key] = append(waiting[key], c.id)
	c.await(forOthers, now, s.Within)
	e.openBarrier(s.Barrier, key, c)
	return true
}

// openBarrier lets those who wait go on once all are there who can still come.
func (e *Env) openBarrier(i int, key int32, like *Client) {
	b, waiting := &e.Trial.Barriers[i], e.barriers[i][key]
	need := 0
	switch b.Scope {
	case trial.AmongAll:
		for _, crew := range b.Crews {
			need += e.expected[crew] - int(e.ended[crew])
		}
	case trial.AmongCrew:
		need = e.expected[like.crew] - int(e.ended[like.crew])
	case trial.AmongGroup:
		crew := &e.Trial.Crews[like.crew]
		group := int(like.n) / max(1, crew.Groups)
		need = min(crew.Groups, crew.Clients-group*crew.Groups) - int(e.groupEnds[int64(like.crew)<<32|int64(group)])
	}
	if len(waiting) > 0 && len(waiting) >= need {
		e.Released = append(e.Released, waiting...)
		delete(e.barriers[i], key)
	}
}

// leaveBarrier takes a client away from where it waits.
func (e *Env) leaveBarrier(c *Client) {
	for i := range e.barriers {
		for key, waiting := range e.barriers[i] {
			if at := slices.Index(waiting, c.id); at >= 0 {
				e.barriers[i][key] = slices.Delete(waiting, at, at+1)
			}
		}
	}
}

// countEnded changes how many have ended.
func (e *Env) countEnded(c *Client, by int32) {
	c.came = by > 0
	e.ended[c.crew] += by
	groups := max(1, e.Trial.Crews[c.crew].Groups)
	e.groupEnds[int64(c.crew)<<32|int64(int(c.n)/groups)] += by
}

// setsOut books that a client can come to a barrier, again.
func (e *Env) setsOut(c *Client) {
	if c.came {
		e.countEnded(c, -1)
	}
}

// landed books that a client ended. Nobody waits for it any more.
func (e *Env) landed(c *Client) {
	e.turning[c.crew] -= int32(c.depth)
	c.depth = 0
	if len(e.barriers) == 0 {
		return
	}
	e.leaveBarrier(c)
	e.countEnded(c, 1)
	for i := range e.barriers {
		for key := range e.barriers[i] {
			if key == e.among(c, &e.Trial.Barriers[i]) {
				e.openBarrier(i, key, c)
			}
		}
	}
}
