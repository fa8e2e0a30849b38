package account

import "tidepull/internal/base/mono"

// heads are the shares that have facts before a horizon, as a heap: the one with the next facts is the first. With
// many shares these follow each other closely, and each turn changes one of them.
type heads struct {
	shares  []*share
	horizon mono.Time
}

func (a *Account) headsOf(horizon mono.Time) heads {
	h := heads{a.heads[:0], horizon}
	for i := range a.shares {
		if s := &a.shares[i]; s.head(horizon) != nil {
			h.shares = append(h.shares, s)
		}
	}
	a.heads = h.shares
	for i := len(h.shares)/2 - 1; i >= 0; i-- {
		h.sink(i)
	}
	return h
}

func (h *heads) before(i, k int) bool {
	return before(h.shares[i].head(h.horizon), h.shares[k].head(h.horizon))
}

// second is the share that has the facts after those of the first; nil if no other has any.
func (h *heads) second() *share {
	switch {
	case len(h.shares) < 2:
		return nil
	case len(h.shares) > 2 && h.before(2, 1):
		return h.shares[2]
	}
	return h.shares[1]
}

// sinkFirst puts the first share where it belongs now, or takes it out if it has nothing more.
func (h *heads) sinkFirst() {
	if h.shares[0].head(h.horizon) == nil {
		last := len(h.shares) - 1
		h.shares[0], h.shares = h.shares[last], h.shares[:last]
	}
	h.sink(0)
}

func (h *heads) sink(i int) {
	for {
		least := i
		for k := 2*i + 1; k <= 2*i+2 && k < len(h.shares); k++ {
			if h.before(k, least) {
				least = k
			}
		}
		if least == i {
			return
		}
		h.shares[i], h.shares[least] = h.shares[least], h.shares[i]
		i = least
	}
}
