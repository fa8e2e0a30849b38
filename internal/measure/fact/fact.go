// Package fact is what a share of a run's clients tells of them: plain values, in
// the order in which the share came to them.
//
// A share serves sockets and follows scripts; it keeps no account. Whatever the
// account of all clients (package account) is made of leaves the share as a Fact:
// who entered which room, which message was said, which mark came to whom. So it
// does not matter how many shares there are, or where they run: a Batch has an
// encoding (codec.go), and its times count from the start of the run.
package fact

import (
	"slices"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
)

// Kind says what a Fact is about, and what its fields mean.
type Kind uint8

// The kinds of fact. All of them are about Client. Room is a number that the share
// gave to a room's name.
const (
	NamesRoom     Kind = iota // Text is the name of Room
	Asks                      // to enter Room
	Enters                    // Room: it is confirmed
	Quits                     // Room: it asks to leave
	IsOut                     // of Room, for certain
	Closes                    // it asks to be out of all its rooms
	IsGone                    // its connection is
	IsHindered                // by What, an excuse.Cause, from Time on
	IsFree                    // of it again, from Time on: what waited until then is there
	Says                      // message Number to Room or to Peer; Time is when it was due; Check: see Unmarked
	Unsays                    // message Number: it could not be sent
	Gets                      // message Number of Peer in Room, Size bytes; it came at Time
	Reaches                   // the same of many clients: who, and when, is in the text (NextReached), from Time on
	Knows                     // a message without a mark, by rule Check, at Time; Peer said it, or -1: it says nobody
	Announces                 // that it enters (Joined) or leaves (Gone) Room: the others should hear of it
	Withdraws                 // the announcement that it enters Room
	Goes                      // without asking: the others in all its rooms should hear of it
	Hears                     // that Peer entered (Joined) or left (Gone) Room, at Time
	HearsMembers              // that Room has Number members, at Time
	HearsNames                // that the members of Room are those in the text (AppendClients), at Time
	WantsHistory              // of Room, up to Number messages
	HasHistory                // of Number messages; Check is about it
	JudgesHistory             // Check held (Good) or failed, because of Text
	Checks                    // Check held (Good) or failed, because of Text
	Happens                   // Event, in Room or nowhere, because of Text; an eviction at Time
	Records                   // something for the lanes alone: What, Number, Peer, Room, Size
	Quotes                    // Text is what message Number says, or its beginning: Size bytes
	Means                     // Text is what is compared of message Number, or its beginning: Size bytes
	Shows                     // Text is what came of that in message Number: Size bytes. Its Gets follows
	Listens                   // to a message without a mark: Text, of Size bytes
	Reads                     // of feed Check, part Since, at Time: what has the digest Sum; Text, if that is new
	Troubles                  // something went wrong with Peer or nobody, at Time
	Suspends                  // its membership: its connection broke, and it is owed what is said until it is back
	Resumes                   // it: it is back
	Pardons                   // what comes of message Number, to it or from it: What, a ledger.Pardon
	Switches                  // to another route; what is said or comes from Time to Since is at the switch
	Caught                    // up: what came to the share until Time is in the facts before this one, or
	// until Since if that is earlier: then the share is too far behind to be waited for
	numKinds
)

// NoMembers is the Number of HearsMembers if what the server said is none.
const NoMembers = -1

// AfterAll stands for all clients in Caught, so that it comes after what happened to
// them.
const AfterAll ledger.Client = 1<<31 - 1

// BeforeAll stands for all clients in Reaches, so that it comes before what else happened to them at the same instant.
const BeforeAll ledger.Client = -1

// Flags of a Fact.
const (
	Good     uint8 = 1 << iota // the check held
	Apart                      // the message went over a second connection
	History                    // the message came as history
	Foreign                    // the mark is of another run
	Told                       // the message is a whisper
	Binary                     // of Quotes, Means and Shows: the message is a binary one
	Numbered                   // of Reads: readings are told apart by their numbers
	Unmarked                   // of Says: it has no mark, and is recognised by rule Check of trial.Knowns
)

// A Fact is one thing that happened to one client. There is one for each message
// that arrives: it is kept small. Times count from the start of the run.
type Fact struct {
	At     mono.Time // when the share came to it
	Time   mono.Time
	Since  mono.Time // of Gets: the earliest that it can have come; 0 if Time is exact
	Number uint64
	Sum    uint64 // of Says and Gets: a digest of the payload; 0 if it is not compared
	Client ledger.Client
	Peer   ledger.Client
	Room   int32 // -1: none, or the one that Text names
	Size   uint32
	from   uint32 // its text is in the Log's Text
	to     uint32
	Check  int16
	Kind   Kind
	What   uint8 // an Audience of Says, a ledger.Kind, a logbook.EventKind, a lane.Happening or as Kind says
	Flags  uint8
}

// Is reports whether a flag is set.
func (f *Fact) Is(flag uint8) bool { return f.Flags&flag != 0 }

// A Log is a list of facts with their texts.
type Log struct {
	Facts []Fact
	Text  []byte
}

// Add adds a fact without a text.
func (l *Log) Add(f Fact) { l.Facts = append(l.Facts, f) }

// AddText adds a fact with a text, which is copied.
func (l *Log) AddText(f Fact, text []byte) {
	f.from = uint32(len(l.Text))
	l.Text = append(l.Text, text...)
	f.to = uint32(len(l.Text))
	l.Facts = append(l.Facts, f)
}

// TextOf gives the text of one of the log's facts; it is valid until the log
// changes.
func (l *Log) TextOf(f *Fact) []byte { return l.Text[f.from:f.to] }

func (f *Fact) hasText() bool { return f.to > f.from }

// Append adds the facts of another log behind those of this one.
func (l *Log) Append(more *Log) {
	first, by := len(l.Facts), uint32(len(l.Text))
	l.Facts = append(l.Facts, more.Facts...)
	l.Text = append(l.Text, more.Text...)
	if by > 0 && len(more.Text) > 0 {
		for i := range l.Facts[first:] {
			if f := &l.Facts[first+i]; f.hasText() {
				f.from, f.to = f.from+by, f.to+by
			}
		}
	}
}

// TakeOver moves the facts of another log behind those of this one; the other is empty
// afterwards.
func (l *Log) TakeOver(from *Log) {
	if len(l.Facts) == 0 {
		*l, *from = *from, *l // nothing to copy
	} else {
		l.Append(from)
	}
	from.Clear()
}

// Drop removes the first n facts, and their texts.
func (l *Log) Drop(n int) {
	if n == len(l.Facts) {
		l.Clear()
		return
	}
	cut := uint32(len(l.Text))
	for i := range l.Facts[n:] {
		if f := &l.Facts[n+i]; f.hasText() {
			cut = min(cut, f.from)
		}
	}
	l.Facts = l.Facts[:copy(l.Facts, l.Facts[n:])]
	l.Text = l.Text[:copy(l.Text, l.Text[cut:])]
	for i := range l.Facts {
		if f := &l.Facts[i]; f.hasText() {
			f.from, f.to = f.from-cut, f.to-cut
		}
	}
}

// Clear empties the log; its memory is used again, unless there is a lot of it.
func (l *Log) Clear() {
	const most = 1 << 16
	if cap(l.Facts) > most || cap(l.Text) > 16*most {
		*l = Log{}
	}
	l.Facts, l.Text = l.Facts[:0], l.Text[:0]
}

// SortEqual puts the facts of one instant, which begin at one of the log, into the
// order of their clients, and returns where they end. Those of one client stay in
// their order. So it does not matter in which order a share served its clients.
func (l *Log) SortEqual(from int) (to int) {
	at, sorted := l.Facts[from].At, true
	for to = from + 1; to < len(l.Facts) && l.Facts[to].At == at; to++ {
		sorted = sorted && l.Facts[to-1].Client <= l.Facts[to].Client
	}
	if !sorted {
		slices.SortStableFunc(l.Facts[from:to], func(a, b Fact) int { return int(a.Client) - int(b.Client) })
	}
	return to
}
