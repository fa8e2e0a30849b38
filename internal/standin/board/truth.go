package board

import (
	"encoding/json"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/mark"
	"tidepull/internal/measure/meter"
)

// Totals count what the board did.
type Totals struct {
	Joined      int64 `json:"joined"`      // connections
	Here        int64 `json:"here"`        // connections now
	Notices     int64 `json:"notices"`     // received
	Whispers    int64 `json:"whispers"`    // received
	Due         int64 `json:"due"`         // deliveries that should have been made
	Written     int64 `json:"written"`     // deliveries made to who should get them, once
	Lost        int64 `json:"lost"`        // deliveries left out
	Doubled     int64 `json:"doubled"`     // deliveries made a second time
	Misdirected int64 `json:"misdirected"` // deliveries made to an outsider
	Past        int64 `json:"past"`        // notices given as history
	Presence    int64 `json:"presence"`    // presence numbers sent
	Refused     int64 `json:"refused"`     // requests refused
	Evicted     int64 `json:"evicted"`     // connections closed because they did not answer pings
	Overrun     int64 `json:"overrun"`     // connections closed because their queue was full
	Readings    int64 `json:"readings"`    // readings of gauges
	WrongEcho   int64 `json:"wrong_echo"`  // notices given to their sender, or not, against the rule
	Spoilt      int64 `json:"spoilt"`      // histories given wrongly
	Reordered   int64 `json:"reordered"`   // messages overtaken by their sender's next
	Disordered  int64 `json:"disordered"`  // deliveries overtaken by the next
	Altered     int64 `json:"altered"`     // deliveries with another text
	Swallowed   int64 `json:"swallowed"`   // messages that vanished for their size
	Miscounted  int64 `json:"miscounted"`  // wrong numbers of members announced
	Forgotten   int64 `json:"forgotten"`   // notices relayed and not kept
	Turned      int64 `json:"turned"`      // openings answered 503
	CutOff      int64 `json:"cut_off"`     // connections, by the switch cut
	Stripped    int64 `json:"stripped"`    // upgrades that did not come through
	Buffered    int64 `json:"buffered"`    // streams of which nothing but the head came
	Stalled     int64 `json:"stalled"`     // openings answered late
	Cut         int64 `json:"cut"`         // connections cut because nothing went over them
	Ended       int64 `json:"ended"`       // streams ended that may be asked for again
	Switched    int64 `json:"switched"`    // clients that changed over to a WebSocket
	Beats       int64 `json:"beats"`       // pings, and comments of event streams
	Unbeaten    int64 `json:"unbeaten"`    // pings left out
	Spared      int64 `json:"spared"`      // clients not evicted that should have been
	Raced       int64 `json:"raced"`       // members lost in a crowd that entered
	Held        int64 `json:"held"`        // times that a room waited for a slow reader
	Unreturned  int64 `json:"unreturned"`  // histories of clients that came back, left out or given twice
	Tolerated   int64 `json:"tolerated"`   // breaches of the protocol that had no end, or another than they should
	Restarts    int64 `json:"restarts"`    // on request
	Hoarded     int64 `json:"hoarded"`     // bytes of clients that have gone
	Ghosts      int64 `json:"ghosts"`      // members that are gone, and stay in a room
}

// Did is what the board did with one delivery.
type Did uint8

// What the board did.
const (
	DidWrite Did = iota
	DidLose
	DidDouble
	DidMisdirect
)

// didNames are the names in the record of deliveries.
var didNames = [...]string{"written", "lost", "doubled", "misdirected"}

// Truth is what the board knows to have done. The totals are whole; messages
// and deliveries are kept one by one up to a bound, the newest.
type Truth struct {
	Totals     Totals
	Relay      meter.Hist // from a message's arrival in the kernel to each write
	FromDue    meter.Hist // from the time in a message's mark to each write
	messages   []Message
	deliveries []Delivery
	evictions  []Eviction
	nEvicted   int64
	nMessages  int64 // all so far
	nDelivered int64
	most       int
}

// A Message is one message that the board received.
type Message struct {
	N        int64  `json:"n"`
	Mark     string `json:"mark,omitempty"`
	Room     string `json:"room,omitempty"` // "" of a whisper
	From     string `json:"from"`
	Received int64  `json:"received_us"` // arrival in the kernel, microseconds since 1970
	Audience int    `json:"audience"`
}

// A Delivery is what the board did with one message for one member.
type Delivery struct {
	N    int64  `json:"n"` // the message's
	To   string `json:"to"`
	At   int64  `json:"at_us"` // microseconds since 1970
	Did  Did    `json:"-"`
	What string `json:"what"`
}

// An Eviction is a client that was closed because it gave no sign of life.
type Eviction struct {
	Name  string `json:"name"`
	Asked int64  `json:"asked_us"` // when it was asked for one, microseconds since 1970
	At    int64  `json:"at_us"`    // when it was closed
}

// Evict books that a client was closed that was asked for a sign of life and gave none.
func (t *Truth) Evict(name string, asked, now mono.Time) {
	t.Totals.Evicted++
	if t.most > 0 {
		t.evictions = keep(t.evictions, Eviction{name, wallMicros(asked), wallMicros(now)}, int(t.nEvicted), t.most)
	}
	t.nEvicted++
}

// AppendEvictions appends the kept evictions as JSON lines, the oldest first.
func (t *Truth) AppendEvictions(dst []byte) []byte {
	return appendRing(dst, t.evictions, int(t.nEvicted), func(e Eviction) any { return e })
}

func wallMicros(t mono.Time) int64 { return t.Wall().UnixMicro() }

func (t *Truth) open(m relayed, audience int) {
	t.nMessages++
	rec := Message{N: t.nMessages, From: m.from, Received: wallMicros(m.received), Audience: audience}
	if m.marked {
		rec.Mark = string(mark.Append(nil, m.mark))
	}
	if m.room != nil {
		rec.Room = m.room.name
	}
	if t.most > 0 {
		t.messages = keep(t.messages, rec, int(t.nMessages-1), t.most)
	}
}

// keep appends to a ring of at most the given length.
func keep[T any](ring []T, v T, n, most int) []T {
	if len(ring) < most {
		return append(ring, v)
	}
	ring[n%most] = v
	return ring
}

func (t *Truth) book(b *Board, m relayed, to int32, did Did) {
	if m.unbooked {
		return
	}
	now := b.out.Now()
	switch did {
	case DidLose:
		t.Totals.Due++
		t.Totals.Lost++
	case DidDouble:
		t.Totals.Doubled++
	case DidMisdirect:
		t.Totals.Misdirected++
	default:
		t.Totals.Due++
		t.Totals.Written++
		t.Relay.Record(now.Sub(m.received))
		if m.marked {
			t.FromDue.Record(time.Duration(wallMicros(now)-mark.Epoch-m.mark.Time) * time.Microsecond)
		}
	}
	if t.most > 0 {
		t.deliveries = keep(t.deliveries, Delivery{N: t.nMessages, To: b.members[to].name, At: wallMicros(now),
			Did: did}, int(t.nDelivered), t.most)
	}
	t.nDelivered++
}

// A Summary is the truth in figures, as the stand-in answers it over HTTP.
type Summary struct {
	Totals Totals          `json:"totals"`
	Relay  meter.Latencies `json:"relay"`    // from a message's arrival in the kernel to each write
	Due    meter.Latencies `json:"from_due"` // from the time in a message's mark to each write
	Rooms  map[string]int  `json:"rooms"`    // members now
}

// Summary gives the truth in figures.
func (b *Board) Summary() Summary {
	s := Summary{Totals: b.Truth.Totals, Relay: b.Truth.Relay.Latencies(), Due: b.Truth.FromDue.Latencies(),
		Rooms: map[string]int{}}
	for _, r := range b.rooms {
		s.Rooms[r.name] = len(r.members)
	}
	return s
}

// AppendMessages appends the kept messages as JSON lines, the oldest first.
func (t *Truth) AppendMessages(dst []byte) []byte {
	return appendRing(dst, t.messages, int(t.nMessages), func(m Message) any { return m })
}

// AppendDeliveries appends the kept deliveries as JSON lines, the oldest first.
func (t *Truth) AppendDeliveries(dst []byte) []byte {
	return appendRing(dst, t.deliveries, int(t.nDelivered), func(d Delivery) any {
		d.What = didNames[d.Did]
		return d
	})
}

func appendRing[T any](dst []byte, ring []T, n int, line func(T) any) []byte {
	for i := range ring {
		if n > len(ring) {
			i = (n + i) % len(ring)
		}
		b, err := json.Marshal(line(ring[i]))
		if err != nil {
			panic(err) // plain structs of strings and numbers
		}
		dst = append(append(dst, b...), '\n')
	}
	return dst
}
