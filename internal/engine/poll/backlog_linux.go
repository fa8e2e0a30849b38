package poll

import "tidepull/internal/base/mono"

// A backlog is what was read and has not been handed to the owner. Reading first
// and working later keeps arrival times true: what waits in a socket while the
// owner works is joined by the kernel, and keeps the stamp of its last packet
// alone.
//
// It is a queue of pieces whose bytes lie in blocks that are used again. Only
// what is read at once is copied, once.
type backlog struct {
	pieces []piece // from head on
	head   int
	bytes  int // that the pieces from head on hold
	block  []byte
	spare  [][]byte
	used   [][]byte // blocks that are full, the oldest first
	rounds []round  // of reading, the oldest first
	handed uint64   // pieces handed over since the start
	read   uint64   // pieces read since the start
}

// A piece is something that happened to a connection.
type piece struct {
	id, generation int32
	what           byte // 'o' opened, 'd' data, 'f' finished, 'b' broke
	freed          bool // the block before the piece's own is used up
	data           []byte
	came           mono.Span
	err            error
}

// A round is one look at all sockets: once the pieces up to its end are handed
// over, so is everything that had arrived when it began.
type round struct {
	began mono.Time
	end   uint64
}

const (
	blockSize = 256 << 10
	// maxBacklog bounds what is read ahead, in bytes. What is beyond it stays in
	// the kernel, which in the end slows the server down.
	maxBacklog = 64 << 20
	// maxPieces bounds it in pieces, which take memory of their own.
	maxPieces = 1 << 19
)

// full reports whether nothing more is to be read ahead.
func (b *backlog) full() bool { return b.bytes >= maxBacklog || b.len() >= maxPieces }

func (b *backlog) len() int { return len(b.pieces) - b.head }

// add queues a piece; its data is copied.
func (b *backlog) add(p piece) {
	if n := len(p.data); n > 0 {
		if len(b.block)+n > cap(b.block) {
			p.freed = b.block != nil
			b.newBlock(n)
		}
		at := len(b.block)
		b.block = append(b.block, p.data...)
		p.data = b.block[at:len(b.block):len(b.block)]
		b.bytes += n
	}
	b.pieces = append(b.pieces, p)
	b.read++
}

func (b *backlog) newBlock(n int) {
	if b.block != nil {
		b.used = append(b.used, b.block)
	}
	if k := len(b.spare); k > 0 && n <= blockSize {
		b.block, b.spare = b.spare[k-1][:0], b.spare[:k-1]
		return
	}
	b.block = make([]byte, 0, max(n, blockSize))
}

// take gives the oldest piece. Its data is valid until the next call.
func (b *backlog) take() piece {
	p := b.pieces[b.head]
	b.pieces[b.head] = piece{}
	b.head++
	b.handed++
	b.bytes -= len(p.data)
	if p.freed { // the first piece of a block: the one before it has been handed over whole
		if old := b.used[0]; cap(old) == blockSize && len(b.spare) < 16 {
			b.spare = append(b.spare, old)
		}
		b.used = append(b.used[:0], b.used[1:]...)
	}
	switch {
	case b.head == len(b.pieces):
		b.pieces, b.head = b.pieces[:0], 0
		if cap(b.pieces) > 1<<16 { // after a flood
			b.pieces = nil
		}
	case b.head > 4096 && b.head > len(b.pieces)/2:
		n := copy(b.pieces, b.pieces[b.head:])
		clear(b.pieces[n:])
		b.pieces, b.head = b.pieces[:n], 0
	}
	return p
}

// looked books that a look at all sockets which began at an instant is over, and
// missed nothing.
func (b *backlog) looked(began mono.Time) { b.rounds = append(b.rounds, round{began, b.read}) }

// caughtUp gives the time up to which everything that arrived was handed over, if
// there is a later one than before.
func (b *backlog) caughtUp() (at mono.Time, ok bool) {
	n := 0
	for n < len(b.rounds) && b.rounds[n].end <= b.handed {
		at, ok = b.rounds[n].began, true
		n++
	}
	if n > 0 {
		b.rounds = b.rounds[:copy(b.rounds, b.rounds[n:])]
	}
	return at, ok
}
