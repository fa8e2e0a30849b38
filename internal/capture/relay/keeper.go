package relay

import (
	"slices"
	"sync/atomic"
	"time"

	"tidepull/internal/capture/recording"
)

// A keeper turns what went over the connections into a recording, in a goroutine of
// its own. What waits for it is bounded: if full says so, its user is to read
// nothing more for a while.
type keeper struct {
	notes  chan note
	waits  atomic.Int64 // bytes in notes
	done   chan struct{}
	emit   func(recording.Entry) error
	taps   map[int]*recording.Tap
	failed error
	// datagrams: each piece is one, and stands by itself
	datagrams bool
}

// A note is something that happened to a connection.
type note struct {
	conn   int
	at     time.Duration // since the recording began
	what   byte          // 'o' opened, 'd' data, 'f' one side says no more, 'e' ended
	server bool          // the data, or the end, is the server's
	data   []byte        // copied by put
	why    string        // it ended
}

// maxNotes bounds the notes that wait, and the cost of one that has no data.
const maxNotes = 1 << 16

func newKeeper(emit func(recording.Entry) error, datagrams bool) *keeper {
	k := &keeper{notes: make(chan note, maxNotes), done: make(chan struct{}), emit: emit,
		taps: map[int]*recording.Tap{}, datagrams: datagrams}
	go k.run()
	return k
}

// put queues a note. It waits only if full is not heeded.
func (k *keeper) put(n note) {
	n.data = slices.Clone(n.data)
	k.waits.Add(int64(len(n.data)))
	k.notes <- n
}

// full reports whether more waits than should.
func (k *keeper) full() bool {
	return k.waits.Load() > mayBeKept || len(k.notes) > maxNotes/2
}

func (k *keeper) run() {
	defer close(k.done)
	for n := range k.notes {
		k.keep(n)
		k.waits.Add(-int64(len(n.data)))
	}
}

func (k *keeper) keep(n note) {
	tap := k.taps[n.conn]
	switch {
	case n.what == 'o':
		k.taps[n.conn] = recording.NewTap(n.conn, k.handOver)
		k.handOver(recording.Entry{At: n.at.Microseconds(), Conn: n.conn, What: recording.Open})
	case tap == nil: // it has ended
	case n.what == 'd' && k.datagrams:
		e := recording.Entry{At: n.at.Microseconds(), Conn: n.conn, What: recording.Data, From: recording.Client}
		if n.server {
			e.From = recording.Server
		}
		e.SetPayload(n.data)
		k.handOver(e)
	case n.what == 'd':
		tap.Feed(n.server, n.data, n.at)
	case n.what == 'f':
		tap.Finish(n.server, n.at, n.why)
	default:
		tap.End(n.at, n.why)
		delete(k.taps, n.conn)
	}
}

// handOver gives an entry to emit, until that fails.
func (k *keeper) handOver(e recording.Entry) {
	if k.failed == nil {
		k.failed = k.emit(e)
	}
}

// end waits until everything is kept, and returns the first error.
func (k *keeper) end() error {
	close(k.notes)
	<-k.done
	return k.failed
}
