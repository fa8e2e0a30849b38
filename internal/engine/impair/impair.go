package impair

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"syscall"
	"time"

	"tidepull/internal/base/due"
	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// A Driver is a poll.Driver with lines that go over a bad path. Like all drivers it has one
// owner.
type Driver struct {
	poll.Wire
	// For gives what the path of a line does at the moment; nil: nothing. It must be set
	// before the first line is dialled.
	For func(id int32) *trial.Effects
	// Lost, if set, hears of each datagram that was lost on its way to the server (up), or
	// from it.
	Lost func(id int32, up bool, b []byte)
	// Doubled, if set, hears of each that comes twice.
	Doubled func(id int32, up bool, b []byte)
	// Corrupted, if set, hears of each piece of which a byte was changed, as it was.
	Corrupted func(id int32, up bool, b []byte)
	// Counts are what it did, and Spent the time that took, until they are taken.
	Counts logbook.PathCounts
	Spent  time.Duration

	lines     []*line // by id; nil: its path does nothing, and nothing waits
	datagrams []bool  // by id: what was dialled is a line of datagrams
	held      []bool  // by id: the owner wants nothing read
	dialled   []bool  // by id: there is a connection, or there will be
	dues      due.Queue[look]
	lives     uint64
	random    rand.PCG
	h         poll.Handler
}

// New puts paths over a driver, which the new one owns. Chance follows from the seed.
func New(d poll.Wire, seed uint64) *Driver {
	return &Driver{Wire: d, random: *rand.NewPCG(seed, 0x7e1d)}
}

const up, down = 0, 1

// A line is one that is impaired, or over which something is on its way.
type line struct {
	effects trial.Effects
	queues  [2]queue
	life    uint64         // tells it from others that had its id
	stalled *wire.Endpoint // where it will be dialled; nil: it was
	head    []byte         // of the request that opens it, as far as it came
	heads   bool           // that is looked at
	seen    mono.Time      // when anything went over it last
	stopped bool           // nothing is read of it, as too much waits
}

// A queue is what is on its way in one direction.
type queue struct {
	parcels []parcel
	bytes   int
	last    mono.Time // when the last of it is to arrive
	free    mono.Time // when the next byte may go, at the way's rate
}

// hurry has what waits go by what the way does now: it comes no later than if it had been sent now, and
// what is sent from now on does not wait for what another fault would have done.
func (q *queue) hurry(w *trial.Way, now mono.Time) {
	q.last, q.free = min(q.last, now), min(q.free, now)
	for i := range q.parcels {
		p := &q.parcels[i]
		if p.at = min(p.at, now.Add(w.Delay+w.Jitter+w.Join)); w.Rate > 0 {
			q.free = max(q.free, now).Add(time.Duration(len(p.data)) * time.Second / time.Duration(w.Rate))
			p.at = max(p.at, q.free)
		}
		q.last = max(q.last, p.at)
	}
}

// A parcel is something on its way.
type parcel struct {
	at   mono.Time // when it arrives
	what byte      // 'd' data, 'o' the line is open, 'b' it broke
	data []byte
	err  error
}

// A look is that a line is to be looked at: something of it may be due.
type look struct {
	id   int32
	life uint64
}

// maxWaiting is how many bytes may be on their way to a client before nothing more is read
// for it.
const maxWaiting = 256 << 10

func (d *Driver) line(id int32) *line {
	if int(id) < len(d.lines) {
		return d.lines[id]
	}
	return nil
}

func set[T any](all *[]T, id int32, v T) {
	for int(id) >= len(*all) {
		var none T
		*all = append(*all, none)
	}
	(*all)[id] = v
}

func is(all []bool, id int32) bool { return int(id) < len(all) && all[id] }

// begin makes a line one that is impaired.
func (d *Driver) begin(id int32, e *trial.Effects) *line {
	d.lives++
	l := &line{life: d.lives, seen: d.Now()}
	if e != nil {
		l.effects = *e
	}
	set(&d.lines, id, l)
	return l
}

// forget ends what a line had on its way.
func (d *Driver) forget(id int32) {
	if int(id) < len(d.lines) {
		d.lines[id] = nil
	}
	if int(id) < len(d.held) {
		d.held[id] = false
	}
	if int(id) < len(d.dialled) {
		d.dialled[id] = false
	}
}

// Changed has the path of a line do what For says now.
func (d *Driver) Changed(id int32) {
	e, l := d.For(id), d.line(id)
	was := [2]trial.Way{}
	if l != nil {
		was = [2]trial.Way{up: l.effects.Up, down: l.effects.Down}
	}
	switch {
	case e == nil && l == nil, !is(d.dialled, id): // what is dialled later asks For itself
		return
	case l == nil:
		l = d.begin(id, e)
	case e == nil:
		l.effects = trial.Effects{}
	default:
		l.effects = *e
	}
	now := d.Now()
	if to := l.stalled; to != nil && !l.effects.Stall {
		l.stalled = nil
		if err := d.Wire.Dial(id, *to); err != nil {
			d.put(id, l, down, parcel{at: now, what: 'b', err: err})
		}
	}
	d.hold(id, l)
	for dir := range l.queues {
		if q := &l.queues[dir]; !l.way(dir).Frozen {
			// A datagram on its way holds up no other, and keeps what chance gave it while anything goes on.
			if w := l.way(dir); was[dir] != *w && (!is(d.datagrams, id) || w.Plain()) {
				q.hurry(w, now)
			}
			if len(q.parcels) > 0 {
				d.dueAt(id, l, max(now, q.parcels[0].at))
			}
		}
	}
	if l.effects.Idle > 0 {
		l.seen = max(l.seen, now)
		d.dueAt(id, l, now.Add(l.effects.Idle))
	}
	d.mayForget(id, l)
}

func (l *line) way(dir int) *trial.Way {
	if dir == up {
		return &l.effects.Up
	}
	return &l.effects.Down
}

// idle reports whether a line needs nothing any more.
func (l *line) idle() bool {
	return l.effects == trial.Effects{} && len(l.queues[up].parcels)+len(l.queues[down].parcels) == 0 &&
		l.stalled == nil &&
		len(l.head) == 0
}

func (d *Driver) mayForget(id int32, l *line) {
	if l.idle() && d.line(id) == l {
		d.lines[id] = nil
	}
}

// hold reads of a line, or does not, as its owner, its path and what waits want.
func (d *Driver) hold(id int32, l *line) {
	waits := l.queues[down].bytes
	l.stopped = waits > maxWaiting || l.stopped && waits > maxWaiting/2
	d.Wire.Hold(id, is(d.held, id) || l.effects.Down.Frozen || l.stopped)
}

// Hold implements poll.Driver.
func (d *Driver) Hold(id int32, on bool) {
	set(&d.held, id, on)
	if l := d.line(id); l != nil {
		d.hold(id, l)
		if !on && len(l.queues[down].parcels) > 0 {
			d.dueAt(id, l, d.Now())
		}
		return
	}
	d.Wire.Hold(id, on)
}

// Dial implements poll.Driver.
func (d *Driver) Dial(id int32, to wire.Endpoint) error {
	d.forget(id)
	set(&d.datagrams, id, to.Datagrams)
	set(&d.dialled, id, true)
	e := d.For(id)
	switch {
	case e == nil:
	case e.Refuse:
		d.Counts.Refused++
		d.forget(id)
		return fmt.Errorf("refused by a fault of the trial: %w", syscall.ECONNREFUSED)
	default:
		l := d.begin(id, e)
		l.heads = e.Strip || e.Status != 0
		if e.Idle > 0 {
			d.dueAt(id, l, d.Now().Add(e.Idle))
		}
		if e.Stall {
			d.Counts.Stalled++
			l.stalled = &to
			return nil
		}
	}
	if err := d.Wire.Dial(id, to); err != nil {
		d.forget(id)
		return err
	}
	return nil
}

// Write implements poll.Driver.
func (d *Driver) Write(id int32, b []byte) bool {
	l := d.line(id)
	if l == nil || len(b) == 0 && !is(d.datagrams, id) {
		return d.Wire.Write(id, b)
	}
	began := time.Now()
	defer func() { d.Spent += time.Since(began) }()
	if l.heads {
		if b = d.heading(id, l, b); b == nil {
			return true
		}
	}
	d.send(id, l, up, b, d.Now())
	d.releaseOne(id, l, up, d.Now()) // the owner is in the middle of something: it hears of nothing now
	return true
}

// heading looks at the beginning of a request that may want to upgrade: what is to go on of
// it, nil if nothing is.
func (d *Driver) heading(id int32, l *line, b []byte) []byte {
	l.head = append(l.head, b...)
	if !bytes.Contains(l.head, []byte("\r\n\r\n")) && len(l.head) < 64<<10 {
		return nil
	}
	b, l.head, l.heads = l.head, nil, false
	lower := bytes.ToLower(b[:min(len(b), bytes.Index(append(b, "\r\n\r\n"...), []byte("\r\n\r\n")))])
	switch {
	case !bytes.Contains(lower, []byte("\r\nupgrade:")):
		return b
	case l.effects.Status != 0:
		d.Counts.Answered++
		answer := fmt.Sprintf("HTTP/1.1 %d %s\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", l.effects.Status,
			http.StatusText(l.effects.Status))
		d.put(id, l, down, parcel{at: d.Now(), what: 'd', data: []byte(answer)})
		d.put(id, l, down, parcel{at: d.Now(), what: 'b', err: poll.ErrEnded})
		return nil
	case l.effects.Strip:
		d.Counts.Stripped++
		return stripped(b)
	}
	return b
}

// stripped leaves out of a request what asks for an upgrade, as proxies do that do not know
// it: the fields of one hop (RFC 9110 7.6.1).
func stripped(b []byte) []byte {
	head, rest, _ := bytes.Cut(b, []byte("\r\n\r\n"))
	var kept [][]byte
	for _, f := range bytes.Split(head, []byte("\r\n")) {
		lower := bytes.ToLower(f)
		if !bytes.HasPrefix(lower, []byte("upgrade:")) && !bytes.HasPrefix(lower, []byte("connection:")) {
			kept = append(kept, f)
		}
	}
	return append(append(bytes.Join(kept, []byte("\r\n")), "\r\n\r\n"...), rest...)
}

// send puts what came at an instant on its way.
func (d *Driver) send(id int32, l *line, dir int, b []byte, came mono.Time) {
	w := l.way(dir)
	l.seen = came
	datagram := is(d.datagrams, id)
	copies := 1
	if datagram {
		switch {
		case d.chance(w.Lose):
			d.Counts.Lost++
			if d.Lost != nil {
				d.Lost(id, dir == up, b)
			}
			return
		case d.chance(w.Double):
			d.Counts.Doubled++
			copies = 2
			if d.Doubled != nil {
				d.Doubled(id, dir == up, b)
			}
		}
	}
	for range copies {
		at := came.Add(d.delay(w))
		if w.Join > 0 {
			// Each line has its own rhythm: what many send is no burst by that.
			phase := mono.Time(id) * mono.Time(37*time.Millisecond) % mono.Time(w.Join)
			at = ((at+phase)/mono.Time(w.Join)+1)*mono.Time(w.Join) - phase
		}
		if datagram && d.chance(w.Reorder) {
			d.Counts.Reordered++
			at = at.Add(ReorderedBy)
		}
		for rest := b; len(rest) > 0 || datagram; {
			piece := rest
			if w.Piece > 0 && len(rest) > w.Piece && !datagram {
				piece = rest[:w.Piece]
			}
			rest = rest[len(piece):]
			data := bytes.Clone(piece)
			if d.chance(w.Corrupt) && len(data) > 0 {
				d.Counts.Corrupted++
				if d.Corrupted != nil {
					d.Corrupted(id, dir == up, data)
				}
				n := d.random.Uint64()
				data[int(n>>8)%len(data)] ^= 1 << (n & 7)
			}
			q := &l.queues[dir]
			if w.Rate > 0 {
				q.free = max(q.free, at).Add(time.Duration(len(data)) * time.Second / time.Duration(w.Rate))
				at = q.free
			}
			if at > came || w.Frozen {
				d.Counts.Delayed++
			}
			d.put(id, l, dir, parcel{at: at, what: 'd', data: data})
			if datagram {
				break
			}
		}
	}
	if dir == down {
		d.hold(id, l)
	}
}

// ReorderedBy is how much later a datagram comes that others overtake.
const ReorderedBy = 50 * time.Millisecond

func (d *Driver) chance(p float64) bool {
	return p > 0 && float64(d.random.Uint64()>>11)/(1<<53) < p
}

// delay is how long something is on its way.
func (d *Driver) delay(w *trial.Way) time.Duration {
	if w.Jitter == 0 {
		return w.Delay
	}
	r := rand.New(&d.random)
	j := float64(w.Jitter)
	switch w.Spread {
	case trial.Normal:
		j *= r.NormFloat64()
	case trial.Exponential:
		j *= math.Min(r.ExpFloat64(), 20)
	default:
		j *= 2*r.Float64() - 1
	}
	return max(0, w.Delay+time.Duration(j))
}

// put puts a parcel into a queue. Bytes do not overtake each other; datagrams may.
func (d *Driver) put(id int32, l *line, dir int, p parcel) {
	q := &l.queues[dir]
	i := len(q.parcels)
	if is(d.datagrams, id) && p.what == 'd' {
		for i > 0 && q.parcels[i-1].at > p.at {
			i--
		}
	} else {
		p.at = max(p.at, q.last)
		q.last = p.at
	}
	q.parcels = append(q.parcels, parcel{})
	copy(q.parcels[i+1:], q.parcels[i:])
	q.parcels[i] = p
	q.bytes += len(p.data)
	if i == 0 && !l.way(dir).Frozen {
		d.dueAt(id, l, p.at)
	}
}

func (d *Driver) dueAt(id int32, l *line, at mono.Time) { d.dues.Put(at, look{id, l.life}) }

// release lets go on what has been on its way for long enough.
func (d *Driver) release(id int32, l *line, now mono.Time) {
	d.releaseOne(id, l, up, now)
	d.releaseOne(id, l, down, now)
	if d.line(id) == l {
		d.hold(id, l)
		d.mayForget(id, l)
	}
}

// releaseOne is release in one direction.
func (d *Driver) releaseOne(id int32, l *line, dir int, now mono.Time) {
	q, some := &l.queues[dir], false
	for len(q.parcels) > 0 && q.parcels[0].at <= now && !l.way(dir).Frozen && d.line(id) == l &&
		(dir == up || !is(d.held, id)) {
		some = true
		p := q.parcels[0]
		q.parcels = q.parcels[1:]
		q.bytes -= len(p.data)
		for dir == up && l.way(up).Join > 0 && !is(d.datagrams, id) && len(q.parcels) > 0 && q.parcels[0].at <= now {
			p.data = append(p.data[:len(p.data):len(p.data)], q.parcels[0].data...) // they go on in one piece
			q.bytes -= len(q.parcels[0].data)
			q.parcels = q.parcels[1:]
		}
		d.arrive(id, dir, p)
	}
	switch {
	case d.line(id) != l:
	case len(q.parcels) == 0:
		q.parcels = nil
	case some && !l.way(dir).Frozen && q.parcels[0].at > now:
		d.dueAt(id, l, q.parcels[0].at)
	}
}

// arrive hands a parcel on.
func (d *Driver) arrive(id int32, dir int, p parcel) {
	began := time.Now() // what others do with it is not the path's cost
	defer func() { d.Spent -= time.Since(began) }()
	switch {
	case dir == up:
		d.Wire.Write(id, p.data)
	case p.what == 'o':
		d.h.Opened(id)
	case p.what == 'b':
		d.forget(id)
		d.Wire.Hangup(id) // nothing is left of it; the owner may dial again
		d.h.Broke(id, p.err)
	default:
		d.h.Data(id, p.data, mono.At(p.at))
	}
}

// Wait implements poll.Driver.
func (d *Driver) Wait(until mono.Time, h poll.Handler) error {
	d.h = h
	err := d.Wire.Wait(min(until, d.dues.Next()), d)
	if now := d.Now(); d.dues.Next() <= now {
		d.fire(now)
	}
	return err
}

// fire does what is due.
func (d *Driver) fire(now mono.Time) {
	began := time.Now()
	for {
		at, u, ok := d.dues.Take(now)
		if !ok {
			break
		}
		l := d.line(u.id)
		if l == nil || l.life != u.life {
			continue
		}
		if idle := l.effects.Idle; idle > 0 && l.stalled == nil {
			if now.Sub(l.seen) >= idle {
				d.Counts.CutIdle++
				d.forget(u.id)
				d.Wire.Hangup(u.id)
				others := time.Now()
				d.h.Broke(u.id, errCutIdle)
				d.Spent -= time.Since(others)
				continue
			}
			if until := l.seen.Add(idle); at < until {
				d.dueAt(u.id, l, until)
			}
		}
		d.release(u.id, l, now)
	}
	d.Spent += time.Since(began)
}

// errCutIdle is why a connection breaks over which nothing went.
var errCutIdle = errors.New("cut by a fault of the trial: nothing went over it for too long")

// CaughtUp implements poll.Driver: what is on its way has not arrived.
func (d *Driver) CaughtUp() mono.Time { return min(d.Wire.CaughtUp(), d.dues.Next()) }

// Queued implements poll.Driver.
func (d *Driver) Queued(id int32) int {
	n := d.Wire.Queued(id)
	if id == poll.All {
		for _, l := range d.lines {
			if l != nil {
				n += l.queues[up].bytes
			}
		}
	} else if l := d.line(id); l != nil {
		n += l.queues[up].bytes
	}
	return n
}

// Hangup implements poll.Driver.
func (d *Driver) Hangup(id int32) {
	d.forget(id)
	d.Wire.Hangup(id)
}

// Abort implements poll.Driver.
func (d *Driver) Abort(id int32) {
	d.forget(id)
	d.Wire.Abort(id)
}

// CloseWhenFlushed implements poll.Driver: what is on its way to the server arrives at once,
// unless nothing does.
func (d *Driver) CloseWhenFlushed(id int32) {
	if l := d.line(id); l != nil && !l.effects.Up.Frozen {
		for _, p := range l.queues[up].parcels {
			d.Wire.Write(id, p.data)
		}
	}
	d.forget(id)
	d.Wire.CloseWhenFlushed(id)
}

// Accepted implements poll.Handler.
func (d *Driver) Accepted(id int32) { d.h.Accepted(id) }

// Opened implements poll.Handler.
func (d *Driver) Opened(id int32) {
	l := d.line(id)
	if l == nil || l.effects.Down.Plain() {
		d.h.Opened(id)
		return
	}
	now := d.Now()
	d.put(id, l, down, parcel{at: now.Add(d.delay(&l.effects.Up) + d.delay(&l.effects.Down)), what: 'o'})
	d.hold(id, l)
	d.release(id, l, now)
}

// Data implements poll.Handler.
func (d *Driver) Data(id int32, b []byte, came mono.Span) {
	l := d.line(id)
	if l == nil {
		d.h.Data(id, b, came)
		return
	}
	if len(l.queues[down].parcels) == 0 && l.effects.Down.Plain() {
		l.seen = came.To
		d.h.Data(id, b, came)
		return
	}
	began := time.Now()
	d.send(id, l, down, b, came.To)
	d.release(id, l, d.Now())
	d.Spent += time.Since(began)
}

// Broke implements poll.Handler: what came before it arrives before it.
func (d *Driver) Broke(id int32, err error) {
	l := d.line(id)
	if l == nil || len(l.queues[down].parcels) == 0 && !l.effects.Down.Frozen {
		d.forget(id)
		d.h.Broke(id, err)
		return
	}
	d.put(id, l, down, parcel{at: d.Now(), what: 'b', err: err})
	d.release(id, l, d.Now())
}
