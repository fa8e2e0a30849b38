// Package lane is the record of what exactly happened between clients: each
// message said and got, each entry, beat and break, one by one. It is what the
// lanes view draws.
//
// A run has far too many of these to keep. A Recorder holds the newest ones of
// all clients in a ring; when something turns out to have gone wrong, those
// around it are taken out of the ring and kept (keep.go). The ring grows until
// it reaches back far enough for a loss to be noticed, up to a bound.
//
// A Recorder has one owner and reads no clock.
package lane

import (
	"time"

	"tidepull/internal/ledger"
)

// What tells what a record is about.
type What uint8

// The kinds of record.
const (
	Said      What = iota // a message; Peer is -1, or the one a whisper is for
	Got                   // a marked message; Peer is its sender, Fate what it was
	Heard                 // a message without a mark
	Beat                  // a ping was answered
	SetOut                // the client began
	Opened                // its connection is agreed on
	Entered               // a room
	Left                  // a room
	WentHome              // it said goodbye
	Broke                 // its connection ended without that
	Refused               // its connection was not agreed on
	Denied                // its name or room was refused
	Held                  // a check; Number is the check's
	Failed                // a check; Number is the check's
	Requested             // an HTTP request
	Answered              // its answer; Number is the status
	Lost                  // a message that was owed and has not come; Peer is its sender
	NumWhats
)

var whatNames = [NumWhats]string{"said", "got", "heard", "beat", "set out", "connected", "entered", "left", "went home", "broke", "refused", "denied", "check held", "check failed", "requested", "answered", "lost"}

func (w What) String() string {
	if w >= NumWhats {
		return "unknown"
	}
	return whatNames[w]
}

// WhatNamed is the opposite of What.String.
func WhatNamed(name string) What {
	for i, n := range whatNames {
		if n == name {
			return What(i)
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
	Peer   ledger.Client // -1 where there is none
	Room   ledger.Room   // -1 where there is none
	Size   uint32        // of the message, in bytes
	What   What
	Fate   ledger.Fate // of Got
	Kind   ledger.Kind // of Said, Got and Lost
}

// Odd tells whether the record is of something that went wrong.
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
	firstRing   = 1 << 12
	maxRing     = 1 << 20 // of 64 bytes
	bodyRing    = 1 << 13 // messages whose bodies are held
	arenaSize   = 1 << 21 // bytes of them
	maxKept     = 60_000  // records
	maxBodies   = 2_000
	perClient   = 200 // records of one client around one problem
	maxFollowed = 16  // clients of whom everything is kept
	perFollowed = 2_000
)

// A Recorder holds the newest records of a run and keeps those that matter.
type Recorder struct {
	ring   []entry // n & (len-1) is where the next goes
	n      uint64
	last   []uint64      // by client: 1 more than the number of its last entry
	reach  time.Duration // how far back the ring should go
	bodies []held        // by number & (bodyRing-1)
	arena  []byte        // what they say, written round and round
	wrote  uint64        // bytes, all so far

	kept     map[key]Record
	texts    map[uint64]Body
	news     []Record // kept since Take
	newTexts []Body
	followed map[ledger.Client]int // and how many records of each
	waiting  []problem             // whose aftermath is still to come
	near     []Record
	Unkept   int // problems whose surroundings were not kept
}

type key struct {
	at     time.Duration
	number uint64
	client ledger.Client
	what   What
}

// An entry is a record with the way to the one before it of the same client, so
// that looking for those of one client does not mean looking at all.
type entry struct {
	Record
	prev uint64 // 1 more than its number
}

// A held body is in the arena until that is written over.
type held struct {
	number uint64
	at     uint64 // where it begins, of all bytes written so far
	length uint32
	cut    bool
	seen   ledger.Client // one who got the message as it should be; -1: nobody yet
}

type problem struct {
	from, to time.Duration
	clients  [3]ledger.Client
	number   uint64
	hasBody  bool
}

// New makes a Recorder whose ring should go back as far as reach.
func New(reach time.Duration) *Recorder {
	return &Recorder{ring: make([]entry, firstRing), reach: reach, bodies: make([]held, bodyRing), arena: make([]byte, arenaSize),
		kept: map[key]Record{}, texts: map[uint64]Body{}, followed: map[ledger.Client]int{}}
}

// Follow has everything of a client kept, from now on and up to a bound.
func (r *Recorder) Follow(c ledger.Client) {
	if len(r.followed) < maxFollowed {
		r.followed[c] = 0
	}
}

// Add books a record. What has no mark in it is kept of followed clients alone:
// servers tell everybody of everybody, and there is far too much of that.
func (r *Recorder) Add(rec Record) {
	if rec.What == Heard {
		if _, ok := r.followed[rec.Client]; !ok {
			return
		}
	}
	if at := r.n & uint64(len(r.ring)-1); r.n >= uint64(len(r.ring)) && len(r.ring) < maxRing && rec.At-r.ring[at].At < r.reach {
		r.grow()
	}
	for int(rec.Client) >= len(r.last) {
		r.last = append(r.last, 0)
	}
	r.ring[r.n&uint64(len(r.ring)-1)] = entry{rec, r.last[rec.Client]}
	r.n++
	r.last[rec.Client] = r.n
	if rec.What == Got && rec.Fate == ledger.Delivered {
		if b := &r.bodies[rec.Number&(bodyRing-1)]; b.number == rec.Number {
			b.seen = rec.Client
		}
	}
	if n, ok := r.followed[rec.Client]; ok && n < perFollowed {
		r.followed[rec.Client]++
		r.keep(rec)
		r.keepBody(rec.Number, rec.What)
	}
}

// grow doubles the ring, the records in their order.
func (r *Recorder) grow() {
	bigger := make([]entry, 2*len(r.ring))
	old := uint64(len(r.ring))
	for i := r.n - old; i < r.n; i++ {
		bigger[i&uint64(len(bigger)-1)] = r.ring[i&(old-1)]
	}
	r.ring = bigger
}

// Said holds what a message says.
func (r *Recorder) Said(number uint64, text []byte) {
	n := min(len(text), MaxBody)
	if left := arenaSize - int(r.wrote%arenaSize); left < n {
		r.wrote += uint64(left) // it does not go round the end
	}
	copy(r.arena[r.wrote%arenaSize:], text[:n])
	r.bodies[number&(bodyRing-1)] = held{number, r.wrote, uint32(n), n < len(text), -1}
	r.wrote += uint64(n)
}
