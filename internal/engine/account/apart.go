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

	// put off are facts that are not to be judged before it is certain what happened on other machines before them: by
	// when that is, the first of them first. ofClient is how many of each client.
	putOff   []later
	ofClient map[ledger.Client]int

	// early is what came to a client that nobody has said yet, and all that came to it behind that: in its order.
	// unsaid says whose first such message is which, and overdue by when they are to be believed as they are.
	early   map[ledger.Client][]fact.Fact
	unsaid  map[uint64][]ledger.Client
	overdue []overdue
	waiting int // in early

	spoken map[ledger.Room][]mono.Time // of late: when messages of a room first came to somebody
}

// A later is a fact that waits, with its text, and whose it is.
type later struct {
	due  mono.Time
	of   *share
	told fact.Log
}

// overdue is by when a message is to be believed that nobody has said.
type overdue struct {
	due    mono.Time
	client ledger.Client
	number uint64
}

// mostWaiting bounds what waits: nothing does for longer than clocks may be off.
const mostWaiting = 1 << 17

func newApart(machines []int) apart {
	if machines == nil {
		return apart{}
	}
	return apart{machine: machines, off: make([]time.Duration, len(machines)), ofClient: map[ledger.Client]int{},
		early: map[ledger.Client][]fact.Fact{}, unsaid: map[uint64][]ledger.Client{},
		spoken: map[ledger.Room][]mono.Time{}}
}

// between is by how much the clocks of two shares' machines may differ.
func (p *apart) between(a, b int) time.Duration {
	if p.machine == nil || a >= len(p.machine) || b >= len(p.machine) || p.machine[a] == p.machine[b] {
		return 0
	}
	return p.off[a] + p.off[b]
}

// others is by how much the clock of a share's machine and that of any other may differ.
func (p *apart) others(of int) (most time.Duration) {
	for share := range p.machine {
		most = max(most, p.between(of, share))
	}
	return most
}

// most is by how much the clocks of any two machines may differ.
func (p *apart) most() (most time.Duration) {
	for share := range p.machine {
		most = max(most, p.others(share))
	}
	return most
}

// waits reports whether anything does.
func (p *apart) waits() bool { return len(p.putOff)+p.waiting > 0 }

// put puts something where it belongs by when it is due.
func put[T any](all []T, one T, due func(T) mono.Time) []T {
	i := len(all)
	for i > 0 && due(all[i-1]) > due(one) {
		i--
	}
	return slices.Insert(all, i, one)
}

// shareOf is the share that has a client.
func (a *Account) shareOf(c ledger.Client) int { return int(c) % len(a.shares) }

// catchUpTo believes what has waited until an instant.
func (a *Account) catchUpTo(t mono.Time) {
	p := &a.apart
	for len(p.putOff) > 0 && p.putOff[0].due <= t {
		l := p.putOff[0]
		p.putOff = p.putOff[1:]
		a.believe(&l)
	}
	for len(p.overdue) > 0 && p.overdue[0].due <= t {
		c, number := p.overdue[0].client, p.overdue[0].number
		p.overdue = p.overdue[1:]
		if first := p.early[c]; len(first) == 0 || first[0].Number != number {
			continue
		}
		if left := slices.DeleteFunc(p.unsaid[number], func(of ledger.Client) bool { return of == c }); len(left) > 0 {
			p.unsaid[number] = left
		} else {
			delete(p.unsaid, number)
		}
		a.letIn(c, true)
	}
}

// catchUpWith believes at once what a client has told: what it tells next may follow from that.
func (a *Account) catchUpWith(c ledger.Client) {
	p := &a.apart
	if p.ofClient[c] == 0 {
		return
	}
	var now []later
	p.putOff = slices.DeleteFunc(p.putOff, func(l later) bool {
		if l.told.Facts[0].Client == c {
			now = append(now, l)
		}
		return l.told.Facts[0].Client == c
	})
	for i := range now {
		a.believe(&now[i])
	}
}

func (a *Account) believe(l *later) {
	f := &l.told.Facts[0]
	if a.apart.ofClient[f.Client]--; a.apart.ofClient[f.Client] <= 0 {
		delete(a.apart.ofClient, f.Client)
	}
	f.At = a.now // the account's time does not go back
	a.take(&share{rooms: l.of.rooms, log: l.told}, f)
}

// putsOff reports whether a fact is put off: that a client is in a room is believed once what is said on other machines
// is certain to be said afterwards, and what it hears of others once all that they did before that is told.
func (a *Account) putsOff(s *share, f *fact.Fact) bool {
	p := &a.apart
	switch f.Kind {
	case fact.Enters, fact.Hears, fact.HearsMembers, fact.HearsNames, fact.HasHistory, fact.JudgesHistory:
	default:
		return false
	}
	by := p.others(a.shareOf(f.Client))
	if by == 0 || len(p.putOff) >= mostWaiting {
		return false
	}
	l := later{due: f.At.Add(by), of: s}
	l.told.AddText(*f, s.log.TextOf(f))
	p.putOff = put(p.putOff, l, func(l later) mono.Time { return l.due })
	p.ofClient[f.Client]++
	return true
}

// comesBefore reports whether a message seems to come before it is said on another machine, or behind such a one, and
// has it wait for that.
func (a *Account) comesBefore(f *fact.Fact) bool {
	p := &a.apart
	if p.machine == nil || p.waiting >= mostWaiting {
		return false
	}
	behind := p.early[f.Client]
	if len(behind) == 0 && !a.isUnsaid(f) {
		return false
	}
	p.early[f.Client] = append(behind, *f)
	if p.waiting++; len(behind) == 0 {
		a.waitsFor(f)
	}
	return true
}

// isUnsaid reports whether a message that came may yet be said on another machine, as things stand.
func (a *Account) isUnsaid(f *fact.Fact) bool {
	by := a.apart.between(a.ledger.StreamOf(f.Number), a.shareOf(f.Client))
	return by > 0 && !f.Is(fact.Foreign) && !a.ledger.Knows(f.Number) && a.now < f.At.Add(by)
}

// waitsFor has a client's first message wait to be said.
func (a *Account) waitsFor(f *fact.Fact) {
	p := &a.apart
	p.unsaid[f.Number] = append(p.unsaid[f.Number], f.Client)
	by := p.between(a.ledger.StreamOf(f.Number), a.shareOf(f.Client))
	p.overdue = put(p.overdue, overdue{f.At.Add(by), f.Client, f.Number}, func(o overdue) mono.Time { return o.due })
}

// catchUpOn lets in what has waited for a message to be said.
func (a *Account) catchUpOn(number uint64) {
	clients := a.apart.unsaid[number]
	delete(a.apart.unsaid, number)
	for _, c := range clients {
		a.letIn(c, false)
	}
}

// letIn books what has waited of a client, up to the next that nobody has said yet; with anyway, the first whether it
// was said or not.
func (a *Account) letIn(c ledger.Client, anyway bool) {
	p := &a.apart
	for len(p.early[c]) > 0 {
		f := p.early[c][0]
		if !anyway && a.isUnsaid(&f) {
			a.waitsFor(&f)
			return
		}
		anyway = false
		p.early[c] = p.early[c][1:]
		p.waiting--
		a.has(&f)
	}
	delete(p.early, c)
}

// spokenIn is how many messages of a room have come to somebody; 0 if all is on one machine.
func (a *Account) spokenIn(room uint32) int {
	if a.apart.machine == nil || int(room) >= a.ledger.Rooms() {
		return 0
	}
	return a.ledger.Spoken(ledger.Room(room))
}

// speaks notes that a message of a room has come to somebody for the first time. What is older than clocks may be off
// is certain, and is given up once there is a lot of it.
func (a *Account) speaks(r ledger.Room) {
	late := a.apart.spoken[r]
	if len(late) == cap(late) && len(late) >= manySpoken {
		late = slices.Clone(after(late, a.now.Add(-2*a.apart.most()))) // clocks may come to be known less well
	}
	a.apart.spoken[r] = append(late, a.now)
}

// manySpoken is how many it takes.
const manySpoken = 1024

// after is what of some instants, which rise, is not before one.
func after(all []mono.Time, since mono.Time) []mono.Time {
	n, _ := slices.BinarySearch(all, since)
	return all[n:]
}

// spokenBefore is how many messages of a room had come to somebody for certain before a client of a share asked.
func (a *Account) spokenBefore(r ledger.Room, share int, at mono.Time) int {
	return a.ledger.Spoken(r) - len(after(a.apart.spoken[r], at.Add(-a.apart.others(share))))
}
