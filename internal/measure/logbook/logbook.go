// Package logbook is the record of a run, second by second: a Page is being
// written, an Entry is a copy that never changes, and a Window sums entries.
// Every figure that is shown, limited or exported, live or afterwards, comes
// out of a Window, so that all of them are computed by the same code.
package logbook

import (
	"math/bits"
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/meter"
)

// Counts are what happened to clients and messages within one second.
type Counts struct {
	Started   int64 // clients that set out
	Opened    int64 // connections that were agreed on
	Refused   int64 // connections that the server, or the way to it, refused
	Hindered  int64 // connections that could not be opened for want of a local port, file or memory
	Broken    int64 // open connections that ended without a close frame from the tool
	Entries   int64 // rooms entered, confirmed
	Denied    int64 // names or rooms refused, or not answered in time
	Finished  int64 // clients that closed in order and are gone
	Sent      int64 // messages said, whispers among them
	Unsent    int64 // messages that were due and could not be said
	Arrivals  int64 // messages received, of any kind
	Bytes     int64 // received
	Marked    int64 // marks found in arrivals, on the second of their message
	Coarse    int64 // marked arrivals read together with later bytes: their time is an upper bound
	Pings     int64 // answered
	Met       int64 // expectations that were met
	Missed    int64 // expectations that were not
	Malformed int64 // connections given up because the server broke the protocol
	Requests  int64 // HTTP requests that were answered
	Unheard   int64 // HTTP requests that were not
	Readings  int64 // pushed by the server itself, of the trial's feeds
	Gaps      int64 // of their numbers, that were left out
	Repeats   int64 // that came again
	Backward  int64 // that came after a later one
	Stale     int64 // that were older than they may be
	OtherType int64 // marked messages of a type, text or binary, that nobody said anything as
	Unknown   int64 // messages without a mark that no rule of the dialect recognised
	StrayNews int64 // announcements that a client joined or left which it did not
	// deliveries that had piled up at clients that read slowly on purpose, on the second
	// of their message
	Piled int64
	// lost deliveries that came after their grace time: the latencies have them, on the second in
	// which they came
	Overtime int64
	Evicted  int64 // clients that the server closed while they misbehaved on purpose
	Routes   RouteCounts
	Returns  ReturnCounts
	Pulse    PulseCounts
	Path     PathCounts
	Load     LoadCounts
	// WaitsFailed are the checks that failed because what was waited for did not come.
	WaitsFailed int64
	Doubt       DoubtCounts // of some of the above
}

// A CheckCount is how often a check of the trial held and failed.
type CheckCount struct{ Held, Failed int64 }

// addChecks adds counts to others, number by number; into gets as long as the longer.
func addChecks(into, more []CheckCount) []CheckCount {
	for i, c := range more {
		if i == len(into) {
			into = append(into, CheckCount{})
		}
		into[i].Held += c.Held
		into[i].Failed += c.Failed
	}
	return into
}

// Gauges are how things stood at the end of a second.
type Gauges struct {
	Planned int // clients, by the tide
	Out     int // clients that have set out and are not gone
	Open    int // open connections
	Entered int // memberships of rooms
}

// Health is how the tool itself did within one second.
type Health struct {
	Busy    time.Duration // of the loop, of Span
	Span    time.Duration // how long the second was
	CPU     time.Duration // of the loop's thread
	Process time.Duration // processor time of the whole process
	GCPause time.Duration
	Path    time.Duration // of the loop, on faults on the path of clients
	Waited  time.Duration // the loop was ready to run and had no core
	Stolen  time.Duration // of the machine's cores, taken away by what it runs on
	// Watched is set if the system says how long threads wait for a core. Then Kept is the
	// longest that one of the tool's or the server's was kept from one at a time, and Starved
	// for how long one of them got less of a core than it wanted, because of others; Crowded is
	// for how long they waited more than they ran.
	Watched                bool
	Kept, Starved, Crowded time.Duration
	Waiting                Overload // why the tool could not do its work in time, noticed by the loop
	Overload               Overload // Waiting, and what follows from the figures above
}

// A SeriesKey says which latencies a histogram holds.
type SeriesKey struct {
	Crew  uint16 // the recipients'
	Class uint8  // the size of the audience: 2^(Class-1) up to 2^Class - 1
}

// classOf gives the size class of an audience.
func classOf(owed int) uint8 { return uint8(bits.Len(uint(max(0, owed)))) }

// A Page is the second that is being written. It has one owner.
type Page struct {
	At     int // the second of the run, from 0
	Sheet  ledger.Sheet
	Counts Counts
	Gauges Gauges
	Health Health

	own *Page // for the messages that the tool itself sent late; nil if there are none

	copied              *Entry       // as it was handed out last
	latency             []crewSeries // by crew
	first, median, last meter.Hist
	fit                 Fit
	doubt               *doubt // nil if everything is known exactly
	Times               Hists
	Checks              []CheckCount // by number; short where none of the later ones was made
	Told                []Told       // by feed; short where the later ones told nothing
}

// Check books one check.
func (p *Page) Check(i int, held bool) {
	for len(p.Checks) <= i {
		p.Checks = append(p.Checks, CheckCount{})
	}
	if held {
		p.Checks[i].Held++
	} else {
		p.Checks[i].Failed++
	}
}

type crewSeries [numClasses]*meter.Hist

const numClasses = 33

// NewPage opens the page of a second.
func NewPage(at, crews int) *Page {
	return &Page{At: at, Sheet: ledger.Sheet{Second: at}, latency: make([]crewSeries, crews)}
}

// Delivery records the latency of one owed delivery: what it is at the most, and
// at the least.
func (p *Page) Delivery(crew uint16, owed int, latency, least time.Duration) {
	if least < latency {
		d := p.inDoubt()
		d.late[fanout].Record(latency)
		d.soon[fanout].Record(least)
	}
	p.Latencies(crew, owed).Record(latency)
}

// Latencies is where Delivery records those of a crew, of messages to audiences of a size.
func (p *Page) Latencies(crew uint16, owed int) *meter.Hist {
	h := &p.latency[crew][classOf(owed)]
	if *h == nil {
		*h = new(meter.Hist)
	}
	return *h
}

// SentLate is the page of the same second for messages that the tool itself sent so
// late that their latencies say nothing of the server. It has a sheet, latencies
// and spreads; everything else is booked on p.
func (p *Page) SentLate() *Page {
	if p.own == nil {
		p.own = NewPage(p.At, len(p.latency))
		p.own.Sheet.Own = true
	}
	return p.own
}

// settled reports whether nothing more will be booked on the page's sheets.
func (p *Page) settled() bool { return p.Sheet.Settled() && (p.own == nil || p.own.Sheet.Settled()) }

// Spread records how one message went through its audience.
func (p *Page) Spread(s ledger.Spread) {
	p.first.Record(s.First)
	p.median.Record(s.Median)
	p.last.Record(s.Last)
	if s.Loose {
		d := p.inDoubt()
		d.late[first].Record(s.First)
		d.late[median].Record(s.Median)
		d.late[last].Record(s.Last)
		d.soon[first].Record(s.FirstLeast)
		d.soon[median].Record(s.MedianLeast)
		d.soon[last].Record(s.LastLeast)
	}
	if s.Reached == s.Owed {
		p.fit.Point(float64(s.Owed), Micros(s.Last))
	}
}

func (p *Page) inDoubt() *doubt {
	if p.doubt == nil {
		p.doubt = new(doubt)
	}
	return p.doubt
}

// A Part is what is known of the messages of one second.
type Part struct {
	Cells   []CellTally  `json:",omitempty"`
	Latency []Series     `json:",omitempty"`
	First   meter.Packed `json:",omitempty"` // of the audience, by message
	Median  meter.Packed `json:",omitempty"`
	Last    meter.Packed `json:",omitempty"`
	Fit     Fit          // of the last recipient against the size of the audience
	Early   *Early       `json:",omitempty"` // nil if everything is known exactly
}

// An Entry is one second of a run, as it stood when it was copied, or some that follow each other, as one (Coarsen). It
// is immutable.
type Entry struct {
	At      int
	Settled bool // nothing more will be booked here
	Foreign int64
	Counts  Counts
	Gauges  Gauges
	Health  Health
	Part
	SentLate *Part // messages that the tool itself sent late; nil if there are none
	Times    Times
	Checks   []CheckCount // by number
	Told     []Told       `json:",omitempty"` // by feed
	// Merged is how many seconds these are, if it was made of some, and MergedOverloaded in how many of them
	// the tool could not do its work in time. Health.Overload has the reasons of them all.
	Merged, MergedOverloaded int `json:",omitempty"`

	packed *packed // nil: the details are here
}

// A CellTally is the account of one room, crew and kind.
type CellTally struct {
	Cell  ledger.Cell
	Tally ledger.Tally
}

// A Series is the latencies of one crew and size class.
type Series struct {
	Key     SeriesKey
	Latency meter.Packed
}

// Entry copies the page.
func (p *Page) Entry() *Entry {
	e := &Entry{At: p.At, Settled: p.settled(), Foreign: p.Sheet.Foreign, Counts: p.Counts, Gauges: p.Gauges,
		Health: p.Health, Part: p.part(), Times: p.Times.pack(), Checks: slices.Clone(p.Checks),
		Told: slices.Clone(p.Told)}
	if p.own != nil {
		own := p.own.part()
		e.SentLate = &own
	}
	return e
}

func (p *Page) part() Part {
	e := Part{First: p.first.Pack(), Median: p.median.Pack(), Last: p.last.Pack(), Fit: p.fit, Early: p.doubt.pack()}
	p.Sheet.Each(func(c ledger.Cell, t *ledger.Tally) { e.Cells = append(e.Cells, CellTally{c, *t}) })
	for crew := range p.latency {
		for class, h := range p.latency[crew] {
			if h != nil {
				e.Latency = append(e.Latency, Series{SeriesKey{uint16(crew), uint8(class)}, h.Pack()})
			}
		}
	}
	return e
}
