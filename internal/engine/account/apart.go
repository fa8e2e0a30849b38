package account

import (
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
)

// Shares may be on several machines, whose clocks agree only so far: each says by how much its own may be off. So of
// what passes from a client on one machine to one on another it is known when it came within those two bounds, and no
// more; what two facts on two machines say of one another's order is certain only if they are further apart; and a
// message may even seem to come before it was said. What is of one machine is exact.
type apart struct {
	machine []int           // by share; nil: all are on one
	off     []time.Duration // by share
	// waiting are facts that are not to be believed before it is certain that nothing said on another machine came
	// before them, by when that is, the first of them first.
	waiting  []later
	entering map[ledger.Client]int // how many of each wait that say that it is in a room
	numbers  map[uint64]int        // how many wait for each message
}

// A later is a fact that waits.
type later struct {
	due  mono.Time
	from *share
	fact fact.Fact
}

// mostWaiting bounds what waits: nothing does for longer than clocks may be off.
const mostWaiting = 1 << 17

// between is by how much the clocks of two shares' machines may differ.
func (p *apart) between(a, b int) time.Duration {
	if p.machine == nil || a >= len(p.machine) || b >= len(p.machine) || p.machine[a] == p.machine[b] {
		return 0
	}
	return p.off[a] + p.off[b]
}

// shareOf is the share that has a client.
func (a *Account) shareOf(c ledger.Client) int { return int(c) % len(a.shares) }

// others is by how much the clock of a share's machine and that of any other may differ.
func (p *apart) others(of int) (most time.Duration) {
	for share := range p.machine {
		most = max(most, p.between(of, share))
	}
	return most
}

// wait puts a fact off.
func (a *Account) wait(s *share, f *fact.Fact, by time.Duration) {
	p := &a.apart
	l := later{f.At.Add(by), s, *f}
	i := len(p.waiting)
	for i > 0 && p.waiting[i-1].due > l.due {
		i--
	}
	p.waiting = slices.Insert(p.waiting, i, l)
	if f.Kind == fact.Gets {
		p.numbers[f.Number]++
	} else {
		p.entering[f.Client]++
	}
}

// catchUpTo applies what has waited until an instant.
func (a *Account) catchUpTo(t mono.Time) {
	if w := a.apart.waiting; len(w) == 0 || w[0].due > t {
		return
	}
	a.catchUpIf(func(l *later) bool { return l.due <= t }, true)
}

// catchUpWith applies at once which rooms a client is in: what it tells next may follow from that.
func (a *Account) catchUpWith(c ledger.Client) {
	if a.apart.entering[c] > 0 {
		a.catchUpIf(func(l *later) bool { return l.fact.Kind != fact.Gets && l.fact.Client == c }, false)
	}
}

// catchUpOn applies at once what has waited for a message to be said.
func (a *Account) catchUpOn(number uint64) {
	if a.apart.numbers[number] > 0 {
		a.catchUpIf(func(l *later) bool { return l.fact.Kind == fact.Gets && l.fact.Number == number }, false)
	}
}

// catchUpIf applies what has waited, if is says so, or as long as it does.
func (a *Account) catchUpIf(is func(*later) bool, first bool) {
	p, kept := &a.apart, 0
	var now []later
	for i := range p.waiting {
		if l := &p.waiting[i]; is(l) {
			now = append(now, *l)
			continue
		} else if first {
			kept += copy(p.waiting[kept:], p.waiting[i:])
			break
		}
		p.waiting[kept] = p.waiting[i]
		kept++
	}
	p.waiting = p.waiting[:kept]
	for i := range now {
		f := &now[i].fact
		if f.Kind == fact.Gets {
			less(p.numbers, f.Number)
			a.gets(f)
			continue
		}
		less(p.entering, f.Client)
		a.ledger.Enter(f.Client, now[i].from.room(f), a.now)
	}
}

// less counts one down.
func less[K comparable](of map[K]int, k K) {
	if of[k]--; of[k] <= 0 {
		delete(of, k)
	}
}

// enters books that a client is in a room. What is said on another machine from then on is owed to it only once that is
// certain to have been said afterwards.
func (a *Account) enters(s *share, f *fact.Fact) {
	if by := a.apart.others(a.shareOf(f.Client)); by > 0 && len(a.apart.waiting) < mostWaiting {
		a.wait(s, f, by)
		return
	}
	a.ledger.Enter(f.Client, s.room(f), f.At)
}

// comesBefore reports whether a message seems to come before it is said on another machine, and has it wait for that.
func (a *Account) comesBefore(f *fact.Fact, from int) bool {
	by := a.apart.between(from, a.shareOf(f.Client))
	if by == 0 || f.Is(fact.Foreign) || a.ledger.Knows(f.Number) || a.now >= f.At.Add(by) ||
		len(a.apart.waiting) >= mostWaiting {
		return false
	}
	a.wait(&a.shares[from], f, by)
	return true
}
