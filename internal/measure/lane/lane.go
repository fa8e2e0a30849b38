// Package lane is the record of what exactly happened between clients: each
// message said and got, each entry, beat and break, one by one. It is what the
// lanes view draws.
//
// A run has far too many of these to keep. A Recorder holds the newest ones of
// all clients, back to where a loss can be noticed now, up to a bound; when
// something turns out to have gone wrong, those around it are kept (keep.go).
//
// A Recorder has one owner and reads no clock.
package lane

import (
	"time"

	"tidepull/internal/measure/ledger"
)

// Happening says what a record is about.
type Happening uint8

// The kinds of record.
const (
	Said        Happening = iota // a message; Peer is -1, or the one a whisper is for
	Got                          // a marked message; Peer is its sender, Fate what it was
	Heard                        // a message without a mark
	Beat                         // a ping was answered
	SetOut                       // the client began
	Opened                       // its connection is agreed on
	Entered                      // a room
	Left                         // a room
	Closed                       // it closed in order
	Broke                        // its connection ended without that
	Refused                      // its connection was not agreed on
	Denied                       // its name or room was refused
	Held                         // a check; Number is the check's
	Failed                       // a check; Number is the check's
	Requested                    // an HTTP request
	Answered                     // its answer; Number is the status
	SteppedDown                  // to the next route
	SteppedUp                    // to a better route
	Lost                         // a message that was owed and has not come; Peer is its sender
	Ignored                      // a ping that was not answered, on purpose
	Misbehaved                   // it began to misbehave on purpose
	Evicted                      // the server closed it while it did
	CameBack                     // it is in all its rooms again, after a break
	Impaired                     // a fault of the trial on its path began
	Mended                       // it is over
	Printed                      // a line that the server wrote; Client is -1, and Number is the line's. Never kept
	NumWhats
)

var whatNames = [NumWhats]string{"said", "got", "heard", "beat", "set out", "connected", "entered", "left", "closed",
	"broke", "refused", "denied", "check held", "check failed", "requested", "answered", "stepped down", "stepped up",
	"lost", "beat ignored", "misbehaves", "evicted", "came back", "fault begins", "fault is over", "printed"}

func (w Happening) String() string {
	if w >= NumWhats {
		return "unknown"
	}
	return whatNames[w]
}

// WhatNamed is the opposite of What.String.
func WhatNamed(name string) Happening {
	for i, n := range whatNames {
		if n == name {
			return Happening(i)
		}
	}
	return NumWhats
}

// A Record is one thing that happened to one client.
type Record struct {
	At     time.Duration // since the start of the run
	Took   time.Duration // of Got: since the message was due
	Number uint64        // of the message, or what What says
	Client ledger.Client
	Peer   ledger.Client // -1 if there is none
	Room   ledger.Room   // -1 if there is none
	Size   uint32        // of the message, in bytes
	What   Happening
	Fate   ledger.Fate // of Got
	Kind   ledger.Kind // of Said, Got and Lost

	// While it is held: how far back the one before of the same client is, so that
	// looking for those of one client does not mean looking at all. 0 if it is
	// no longer held, and elsewhere.
	back uint32
}

// Odd reports whether the record is of something that went wrong.
func (r *Record) Odd() bool {
	switch r.What {
	case Broke, Refused, Denied, Failed, Lost:
		return true
	case Got:
		switch r.Fate {
		case ledger.Delivered, ledger.Allowed, ledger.Past:
			return false
		}
		return true
	}
	return false
}

// A Body is what a message said, cut to MaxBody bytes.
type Body struct {
	Number uint64
	Text   []byte
	Cut    bool
}

// Bounds on what is held and kept.
const (
	MaxBody     = 4 << 10
	inChunk     = 1 << 10 // records of 48 bytes
	maxChunks   = 1 << 10
	firstBodies = 1 << 6
	maxHeld     = 1 << 13 // messages that have their bodies held
	firstArena  = 1 << 14
	maxArena    = 1 << 21 // bytes of them
	maxKept     = 60_000  // records
	maxBodies   = 2_000
	perClient   = 200 // records of one client around one problem
	MaxFollowed = 16  // clients that have their lanes kept whole
	perFollowed = 2_000
)

// A Recorder holds the newest records of a run and keeps those that matter.
type Recorder struct {
	chunks [maxChunks]*[inChunk]Record // the newest records; record i is in chunk i/inChunk%maxChunks
	oldest uint64                      // chunk that is held, of all so far
	n      uint64                      // records, all so far
	last   []uint64                    // by client: 1 more than the number of its last record
	reach  time.Duration               // how far back what is held should go
	now    time.Duration               // of the newest record
	bodies []held                      // by number & (len-1)
	arena  []byte                      // what they say, written round and round
	wrote  uint64                      // bytes, all so far
	lap    time.Duration               // when the round began

	kept     map[uint64]bool // records that are, by their number
	keeps    int             // records that are, with the lost
	texts    map[uint64]Body
	news     []Record // kept since Take
	newTexts []Body
	followed map[ledger.Client]int // and how many records of each
	waiting  []problem             // that still have their aftermath to come
	near     []uint64
	heard    uint64 // messages without a mark that were held
	Unkept   int    // problems without their surroundings
}

// A held body is in the arena until that is written over.
type held struct {
	number uint64
	at     uint64 // where it begins, of all bytes written so far
	when   uint32 // in milliseconds since the start of the run
	length uint16
	cut    bool
	seen   ledger.Client // one who got the message as it should be; -1: nobody yet
}

type problem struct {
	from, to time.Duration
	clients  [3]ledger.Client
	number   uint64
	hasBody  bool
}

// New makes a Recorder that should go back as far as reach. It begins small and
// grows if that takes more, up to a bound.
func New(reach time.Duration) *Recorder {
	return &Recorder{reach: reach, bodies: make([]held, firstBodies), arena: make([]byte, firstArena),
		kept: map[uint64]bool{}, texts: map[uint64]Body{}, followed: map[ledger.Client]int{}}
}

// Follow has everything of a client kept, from now on and up to a bound.
func (r *Recorder) Follow(c ledger.Client) {
	if len(r.followed) < MaxFollowed {
		r.followed[c] = 0
	}
}

// Add books a record. What has no mark in it is kept of followed clients alone:
// servers tell everybody of everybody, and there is far too much of that.
func (r *Recorder) Add(rec Record) {
	own, followed := r.followed[rec.Client]
	if rec.What == Heard && !followed {
		return
	}
	if r.n%inChunk == 0 {
		r.nextChunk()
	}
	for int(rec.Client) >= len(r.last) {
		r.last = append(r.last, 0)
	}
	r.now = rec.At
	r.n++
	in := r.at(r.n - 1)
	*in = rec
	if last := r.last[rec.Client]; last > r.oldest*inChunk {
		in.back = uint32(r.n - last)
	}
	r.last[rec.Client] = r.n
	if rec.What == Got && rec.Fate == ledger.Delivered {
		if b := r.body(rec.Number); b.number == rec.Number {
			b.seen = rec.Client
		}
	}
	if followed && own < perFollowed {
		r.followed[rec.Client]++
		r.keep(r.n - 1)
		r.keepBody(rec.Number, rec.What)
	}
}

// at gives a record that is held.
func (r *Recorder) at(i uint64) *Record { return &r.chunks[i/inChunk%maxChunks][i%inChunk] }

// nextChunk makes room for more records: in the oldest chunk, if all in it
// are older than need be or there are too many. Further such chunks are let go.
func (r *Recorder) nextChunk() {
	var free *[inChunk]Record
	next := r.n / inChunk
	for r.oldest < next && (next-r.oldest == maxChunks || !r.recent(r.at(r.oldest*inChunk+inChunk-1).At)) {
		old := &r.chunks[r.oldest%maxChunks]
		free, *old = *old, nil
		r.oldest++
	}
	if free == nil {
		free = new([inChunk]Record)
	}
	r.chunks[next%maxChunks] = free
}

// body is the place of a message's body, which may be another's.
func (r *Recorder) body(number uint64) *held { return &r.bodies[number&uint64(len(r.bodies)-1)] }

// recent reports whether what was held at an instant should still be.
func (r *Recorder) recent(at time.Duration) bool { return r.now-at < r.reach }

// Said holds what a message says.
func (r *Recorder) Said(number uint64, text []byte) {
	n := min(len(text), MaxBody)
	if left := len(r.arena) - int(r.wrote%uint64(len(r.arena))); left <= n {
		r.wrote += uint64(left) // it does not go round the end
		r.nextLap()
	}
	for len(r.bodies) < maxHeld {
		if b := r.body(number); b.length == 0 || b.number == number ||
			!r.recent(time.Duration(b.when)*time.Millisecond) {
			break
		}
		r.growBodies()
	}
	at := r.wrote % uint64(len(r.arena))
	copy(r.arena[at:], text[:n])
	*r.body(number) = held{number: number, at: r.wrote, when: uint32(r.now.Milliseconds()), length: uint16(n),
		cut: n < len(text), seen: -1}
	r.wrote += uint64(n)
}

// heardBit marks the numbers of messages without a mark, which the Recorder
// gives itself.
const heardBit = 1 << 62

// NoMessage is the number of what is known of no message.
const NoMessage = heardBit

// Heard holds what a message without a mark says, if its client is followed, and
// returns the number that it is known by; 0 if nothing was held.
func (r *Recorder) Heard(c ledger.Client, text []byte) uint64 {
	if own, followed := r.followed[c]; !followed || own >= perFollowed || len(text) == 0 {
		return 0
	}
	r.heard++
	r.Said(heardBit|r.heard, text)
	return heardBit | r.heard
}

// nextLap begins to write over the arena, or over twice of it where what it
// holds is recent.
func (r *Recorder) nextLap() {
	if r.recent(r.lap) && len(r.arena) < maxArena {
		bigger := make([]byte, 2*len(r.arena))
		copy(bigger[(r.wrote-uint64(len(r.arena)))%uint64(len(bigger)):], r.arena)
		r.arena = bigger
		return
	}
	r.lap = r.now
}

// growBodies doubles the table: who shared no place shares none in the bigger.
func (r *Recorder) growBodies() {
	old := r.bodies
	r.bodies = make([]held, 2*len(old))
	for _, b := range old {
		if b.length > 0 {
			*r.body(b.number) = b
		}
	}
}
