package poll

import (
	"math"
	"time"
	"unsafe"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/queue"
)

// A backlog is what was read and has not been handed to the owner. Reading first
// and working later keeps arrival times true: what waits in a socket while the
// owner works is joined by the kernel, and keeps the stamp of its last packet
// alone.
//
// It is a queue of pieces. Their bytes lie in blocks that are used again; the kernel
// writes into them, and nothing is copied.
type backlog struct {
	pieces queue.Queue[piece]
	errors queue.Queue[error] // of the pieces that have one, in their order
	bytes  int                // that the pieces hold
	block  []byte
	spare  [][]byte
	used   [][]byte // blocks that are full, the oldest first
	freed  bool     // the next piece is the first with bytes in a new block
	rounds []round  // of reading, the oldest first
	handed uint64   // pieces handed over since the start
	read   uint64   // pieces read since the start
}

// A piece is something that happened to a connection. There may be very many: it
// is kept small.
type piece struct {
	id, generation int32
	what           byte // 'o' opened, 'd' data, 'f' finished, 'b' broke
	freed          bool // the block before the piece's own is used up
	size           int32
	early          uint32    // how many microseconds before at its first bytes may have come
	at             mono.Time // when its last bytes came
	first          *byte     // of its data
}

// data gives the bytes of a piece.
func (p *piece) data() []byte { return unsafe.Slice(p.first, p.size) }

// came is when they arrived.
func (p *piece) came() mono.Span {
	return mono.Span{From: p.at.Add(-time.Duration(p.early) * time.Microsecond), To: p.at}
}

// A round is one look at all sockets: once the pieces up to its end are handed
// over, so is everything that had arrived when it began.
type round struct {
	began mono.Time
	end   uint64
}

const (
	blockSize = 512 << 10
	maxSpare  = maxBacklog / blockSize // so that a flood makes no garbage
	// maxBacklog bounds what is read ahead, in bytes. What is beyond it stays in
	// the kernel, which in the end slows the server down.
	maxBacklog = 16 << 20
	// maxPieces bounds it in pieces, which take memory of their own.
	maxPieces = 1 << 19
)

// full reports whether nothing more is to be read ahead.
func (b *backlog) full() bool { return b.bytes >= maxBacklog || b.len() >= maxPieces }

func (b *backlog) len() int { return b.pieces.Len() }

// room gives the memory into which the next piece is to be read: readSize bytes.
func (b *backlog) room() []byte {
	if b.len() == 0 { // everything was handed over: begin again with what is in the processor's caches
		for _, old := range b.used {
			b.reuse(old)
		}
		b.block, b.used, b.freed = b.block[:0], b.used[:0], false
	}
	if cap(b.block)-len(b.block) < readSize {
		if b.block != nil {
			b.used = append(b.used, b.block)
			b.freed = true
		}
		if n := len(b.spare); n > 0 {
			b.block, b.spare = b.spare[n-1][:0], b.spare[:n-1]
		} else {
			b.block = make([]byte, 0, blockSize)
		}
	}
	return b.block[len(b.block) : len(b.block)+readSize]
}

// reuse keeps a block for later, unless there are enough.
func (b *backlog) reuse(block []byte) {
	if len(b.spare) < maxSpare {
		b.spare = append(b.spare, block)
	}
}

// addData queues n bytes that were read into room.
func (b *backlog) addData(id, generation int32, n int, from, at mono.Time) {
	early := (at.Sub(from) + time.Microsecond - 1) / time.Microsecond
	p := piece{id: id, generation: generation, what: 'd', size: int32(n), freed: b.freed, at: at,
		early: uint32(min(early, math.MaxUint32)), first: unsafe.SliceData(b.block[len(b.block):cap(b.block)])}
	b.block, b.freed = b.block[:len(b.block)+n], false
	b.bytes += n
	b.pieces.Push(p)
	b.read++
}

// add queues something else that happened.
func (b *backlog) add(id, generation int32, what byte, err error) {
	if err != nil {
		b.errors.Push(err)
	}
	b.pieces.Push(piece{id: id, generation: generation, what: what})
	b.read++
}

// take gives the oldest piece, and the error of one that broke. Its data is valid
// until the next call.
func (b *backlog) take() (p piece, err error) {
	p = b.pieces.Pop()
	b.handed++
	b.bytes -= int(p.size)
	if p.freed { // the block before has been handed over whole
		b.reuse(b.used[0])
		b.used = append(b.used[:0], b.used[1:]...)
	}
	if p.what == 'b' {
		err = b.errors.Pop()
	}
	return p, err
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
