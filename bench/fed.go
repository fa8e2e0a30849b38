package main

import (
	"bytes"
	"errors"
	"net/netip"
	"sync"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/wire"
)

// A fedBoard is a server in memory that costs next to nothing: what a client says goes
// to all clients of all its drivers. It is for measuring what the tool's own work costs,
// and how that grows with the number of loops, if no kernel and no server is the limit.
type fedBoard struct {
	mu      sync.Mutex
	said    [][]byte // lines, all so far
	drivers []*fedDriver
}

// A fedDriver is one loop's connection to a fedBoard.
type fedDriver struct {
	board   *fedBoard
	open    []bool      // by id
	ids     []int32     // that are open
	news    []fedAnswer // for single clients
	next    int         // of board.said; the board's mutex guards it
	there   int         // how many are open; likewise
	blocked time.Duration
	wake    chan struct{}
}

type fedAnswer struct {
	id   int32
	line []byte // nil: it is open
}

func (b *fedBoard) driver() *fedDriver {
	d := &fedDriver{board: b, wake: make(chan struct{}, 1)}
	b.drivers = append(b.drivers, d)
	return d
}

func (d *fedDriver) Now() mono.Time            { return mono.Now() }
func (d *fedDriver) CaughtUp() mono.Time       { return mono.Now() }
func (d *fedDriver) KernelTimes() bool         { return true }
func (d *fedDriver) Blocked() time.Duration    { return d.blocked }
func (d *fedDriver) Queued(int32) int          { return 0 }
func (d *fedDriver) Hold(int32, bool)          {}
func (d *fedDriver) Abort(int32)               {}
func (d *fedDriver) Unplug(int32, bool) bool   { return false }
func (d *fedDriver) Gone(int32) mono.Span      { return mono.Span{} }
func (d *fedDriver) Reserve() int32            { return -1 }
func (d *fedDriver) CloseWrite(id int32)       { d.Hangup(id) }
func (d *fedDriver) CloseWhenFlushed(id int32) { d.Hangup(id) }
func (d *fedDriver) Close() error              { return nil }

func (d *fedDriver) Listen(netip.AddrPort) (netip.AddrPort, error) {
	return netip.AddrPort{}, errors.New("fed: it does not listen")
}

func (d *fedDriver) ListenDatagrams(at netip.AddrPort) (netip.AddrPort, error) { return d.Listen(at) }

func (d *fedDriver) IsDatagrams(int32) bool { return false }
func (d *fedDriver) Dropped() int           { return 0 }

func (d *fedDriver) Wake() {
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

func (d *fedDriver) Dial(id int32, _ wire.Endpoint) error {
	for int(id) >= len(d.open) {
		d.open = append(d.open, false)
	}
	d.open[id] = true
	d.board.mu.Lock()
	d.there++
	d.board.mu.Unlock()
	d.ids = append(d.ids, id)
	d.news = append(d.news, fedAnswer{id: id})
	return nil
}

func (d *fedDriver) Hangup(id int32) {
	if !d.open[id] {
		return
	}
	d.open[id] = false
	d.board.mu.Lock()
	d.there--
	d.board.mu.Unlock()
}

// Write takes one message of a client.
func (d *fedDriver) Write(id int32, line []byte) bool {
	switch {
	case bytes.Contains(line, []byte(`"kind":"name"`)):
		d.news = append(d.news, fedAnswer{id, []byte("{\"kind\":\"named\"}\n")})
	case bytes.Contains(line, []byte(`"kind":"enter"`)):
		d.news = append(d.news, fedAnswer{id, []byte("{\"kind\":\"entered\",\"room\":\"basin\"}\n")})
	case bytes.Contains(line, []byte(`"kind":"notice"`)):
		d.board.mu.Lock()
		d.board.said = append(d.board.said, bytes.Clone(line))
		d.board.mu.Unlock()
		for _, other := range d.board.drivers {
			other.Wake()
		}
	}
	return true
}

// Wait hands over the answers to single clients, and the next messages to all.
func (d *fedDriver) Wait(until mono.Time, h poll.Handler) error {
	news := d.board.after(d)
	if len(d.news) == 0 && len(news) == 0 {
		began := mono.Now()
		if left := min(until.Sub(began), 100*time.Microsecond); left > 0 {
			select {
			case <-d.wake:
			case <-time.After(left):
			}
		}
		d.blocked += mono.Now().Sub(began)
		return nil
	}
	answers := d.news
	d.news = nil
	for _, a := range answers {
		switch {
		case !d.open[a.id]:
		case a.line == nil:
			h.Opened(a.id)
		default:
			h.Data(a.id, a.line, mono.At(mono.Now()))
		}
	}
	if len(news) > 0 {
		now := mono.At(mono.Now())
		for _, id := range d.ids {
			if d.open[id] {
				h.Data(id, news[0], now)
			}
		}
	}
	return nil
}

// aheadBy is how many messages a driver may be ahead of the slowest one: a server has
// buffers, too. With more, of which there may be none in a whole run of many loops on few cores, the slowest would come
// to its messages after their grace time.
const aheadBy = 16

// after gives the next message for a driver; none if there is none, or if it is too far
// ahead of others.
func (b *fedBoard) after(d *fedDriver) [][]byte {
	b.mu.Lock()
	defer b.mu.Unlock()
	least := d.next
	for _, other := range b.drivers {
		if other.there > 0 { // one whose clients have gone takes no more, and must not hold up the others
			least = min(least, other.next)
		}
	}
	if d.next == len(b.said) || d.next > least+aheadBy {
		return nil
	}
	d.next++
	return b.said[d.next-1 : d.next]
}
