package board

import (
	"fmt"
	"hash/fnv"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Switches make the board do wrong. What is affected follows from the seed, the
// sender's name, how many it had said, and the recipient's name: not from
// timing, so the same session meets the same fate again.
type Switches struct {
	Seed      uint64
	Hold      time.Duration
	Lose      float64
	Double    float64
	Misdirect float64
	WrongEcho float64
	Leak      float64
	Overhear  float64
	History   float64
	Reorder   float64
	Disorder  float64
	Alter     float64
	TooBig    int
	OpenDoor  float64
	Presence  float64
	Clash     float64
	Forget    float64
	Ways
	Beats
	Load
	Membership
	Intake
}

// Ways are switches of how clients come to the board.
type Ways struct {
	RefuseUpgrade float64
	StripUpgrade  float64
	RefuseStream  float64
	RefusePoll    float64
	LoseAtSwitch  float64
	BufferStream  float64
	Stall         time.Duration
	CutIdle       time.Duration
	EndStreams    time.Duration
	Cut           float64
}

// Beats are switches of heartbeats.
type Beats struct {
	MissBeat   float64
	Uneven     float64
	Drift      float64
	Bunch      float64
	NoEviction float64
	Hasty      float64
	Ghost      float64
}

// A Switch describes one of the Switches.
type Switch struct {
	Name string
	Doc  string
	at   func(*Switches) any // *float64, *int, *uint64 or *time.Duration
}

// SwitchWords are the names of all switches, and what each does.
func SwitchWords() (all [][2]string) {
	for _, s := range SwitchList {
		all = append(all, [2]string{s.Name, s.Doc})
	}
	return all
}

// SwitchList lists all switches. A switch that is a number from 0 to 1 is a
// probability.
var SwitchList = append([]Switch{
	{"seed", "what the switches' dice follow from", func(s *Switches) any { return &s.Seed }},
	{"hold", "every message is held this long before it is relayed", func(s *Switches) any { return &s.Hold }},
	{"lose", "a delivery is left out", func(s *Switches) any { return &s.Lose }},
	{"double", "a delivery is made twice", func(s *Switches) any { return &s.Double }},
	{"misdirect", "a delivery goes to a member of another room instead", func(s *Switches) any { return &s.Misdirect }},
	{"wrong_echo", "a sender does not get its own notice though it should, or gets it though it should not",
		func(s *Switches) any { return &s.WrongEcho }},
	{"leak", "a notice reaches a member of another room as well", func(s *Switches) any { return &s.Leak }},
	{"overhear", "a whisper reaches a third client as well", func(s *Switches) any { return &s.Overhear }},
	{"history", "a late comer's history has a gap, an overlap, one twice or two in the wrong order",
		func(s *Switches) any { return &s.History }},
	{"reorder", "a message is overtaken by its sender's next", func(s *Switches) any { return &s.Reorder }},
	{"disorder", "one member gets a notice after the next, the others do not",
		func(s *Switches) any { return &s.Disorder }},
	{"alter", "a delivery's text is cut, escaped or padded", func(s *Switches) any { return &s.Alter }},
	{"too_big", "texts of more bytes than this vanish silently; 0 for none",
		func(s *Switches) any { return &s.TooBig }},
	{"open_door", "a client may enter, speak and whisper without credentials, name or membership",
		func(s *Switches) any { return &s.OpenDoor }},
	{"presence", "an announced number of members is one too high", func(s *Switches) any { return &s.Presence }},
	{"clash", "of two connections with one name, the first gets what is for the second",
		func(s *Switches) any { return &s.Clash }},
	{"refuse_upgrade", "a client's upgrade to a WebSocket is answered 503",
		func(s *Switches) any { return &s.RefuseUpgrade }},
	{"strip_upgrade", "a client's upgrade does not come through: it is answered as a plain request",
		func(s *Switches) any { return &s.StripUpgrade }},
	{"refuse_stream", "a client's event stream, or answer without end, is answered 503",
		func(s *Switches) any { return &s.RefuseStream }},
	{"refuse_poll", "a client's polls are answered 503", func(s *Switches) any { return &s.RefusePoll }},
	{"lose_at_switch", "what waits for a client that changes its transport is lost",
		func(s *Switches) any { return &s.LoseAtSwitch }},
	{"buffer_stream", "nothing of a client's event stream, or answer without end, comes but its head",
		func(s *Switches) any { return &s.BufferStream }},
	{"stall", "what lets a client in is answered this much later", func(s *Switches) any { return &s.Stall }},
	{"cut_idle", "a connection over which nothing went for so long is cut; 0 for none",
		func(s *Switches) any { return &s.CutIdle }},
	{"end_streams", "streams are ended after this long, in order, and may be asked for again; 0 for none",
		func(s *Switches) any { return &s.EndStreams }},
	{"cut", "a connection is cut once a message of its client was relayed", func(s *Switches) any { return &s.Cut }},
	{"miss_beat", "a ping is left out", func(s *Switches) any { return &s.MissBeat }},
	{"uneven", "pings come up to this part of the interval early or late", func(s *Switches) any { return &s.Uneven }},
	{"drift", "the interval of pings is this part longer", func(s *Switches) any { return &s.Drift }},
	{"bunch", "if above 0: all clients are pinged at the same moment", func(s *Switches) any { return &s.Bunch }},
	{"no_eviction", "a client that does not answer pings stays", func(s *Switches) any { return &s.NoEviction }},
	{"hasty", "a client's answers to pings do not count", func(s *Switches) any { return &s.Hasty }},
	{"ghost", "a client whose connection breaks stays a member of its rooms",
		func(s *Switches) any { return &s.Ghost }},
	{"forget", "a notice is relayed and not kept", func(s *Switches) any { return &s.Forget }},
}, slices.Concat(loadList, membershipList, intakeList)...)

// Set changes switches by name, as they come in a query; nothing is changed
// if one is wrong.
func (s *Switches) Set(values url.Values) error {
	next := *s
	for name := range values {
		if err := next.set(name, values.Get(name)); err != nil {
			return fmt.Errorf("switch %q: %w", name, err)
		}
	}
	*s = next
	return nil
}

func (s *Switches) set(name, value string) (err error) {
	var names []string
	for _, sw := range SwitchList {
		if names = append(names, sw.Name); sw.Name != name {
			continue
		}
		switch at := sw.at(s).(type) {
		case *uint64:
			*at, err = strconv.ParseUint(value, 10, 64)
		case *time.Duration:
			*at, err = time.ParseDuration(value)
		case *int:
			if *at, err = strconv.Atoi(value); err == nil && *at < 0 {
				err = fmt.Errorf("%d is less than 0", *at)
			}
		case *float64:
			*at, err = probability(value)
		}
		return err
	}
	return fmt.Errorf("there is no such switch; there are %s", strings.Join(names, ", "))
}

func probability(s string) (float64, error) {
	p, err := strconv.ParseFloat(s, 64)
	if err == nil && !(p >= 0 && p <= 1) {
		err = fmt.Errorf("%q is no probability; it goes from 0 to 1", s)
	}
	return p, err
}

// Meets throws the die of a switch about how clients come to the board, for one of them.
func (s *Switches) Meets(p float64, what, who string) bool {
	return p > 0 && s.Chance(what, who) < p
}

// Chance is a number from 0 to 1 that follows from the seed, and from what it is for.
func (s *Switches) Chance(what, who string) float64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %s %s", s.Seed, what, who)
	return float64(finish(h.Sum64())>>11) / (1 << 53)
}

// wrong tells apart the dice of the switches.
type wrong byte

const (
	loseIt wrong = iota + 1
	doubleIt
	misdirectIt
	echoWrongly
	leakIt
	overhearIt
	spoilHistory
	reorderIt
	disorderIt
	alterIt
	openDoor
	miscount
	clashIt
	forgetIt
	nodeGap
)

// happens throws the die of a switch for one delivery; to is -1 if it is
// about no recipient.
func (s *Switches) happens(w wrong, p float64, b *Board, m relayed, to int32) bool {
	return p > 0 && float64(s.die(w, b, m, to)>>11)/(1<<53) < p
}

func (s *Switches) die(w wrong, b *Board, m relayed, to int32) uint64 {
	h := fnv.New64a()
	var n [17]byte
	for i := range 8 {
		n[i], n[8+i] = byte(s.Seed>>(8*i)), byte(m.said>>(8*i))
	}
	n[16] = byte(w)
	h.Write(n[:])
	h.Write([]byte(m.from))
	h.Write([]byte{0})
	if to >= 0 {
		h.Write([]byte(b.members[to].name))
	}
	return finish(h.Sum64())
}

// finish spreads a hash: FNV's high bits are weak for short input. It is splitmix64's.
func finish(z uint64) uint64 {
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// Switches gives the board's switches, for reading and for throwing.
func (b *Board) Switches() *Switches { return &b.cfg.Switches }
