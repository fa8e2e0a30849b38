package board

import (
	"fmt"
	"hash/fnv"
	"net/url"
	"strconv"
	"time"
)

// Switches make the board do wrong. Which deliveries are affected follows from
// the seed, the sender's name, how many it had said, and the recipient's name:
// not from timing, so the same session meets the same fate again.
type Switches struct {
	Seed      uint64
	Hold      time.Duration // every message is held this long before it is relayed
	Lose      float64       // probability that a delivery is left out
	Double    float64       // probability that a delivery is made twice
	Misdirect float64       // probability that a delivery goes to a member of another room instead
}

// Set changes switches by name, as they come in a query; nothing is changed
// where one is wrong.
func (s *Switches) Set(values url.Values) error {
	next := *s
	for name := range values {
		value := values.Get(name)
		var err error
		switch name {
		case "seed":
			next.Seed, err = strconv.ParseUint(value, 10, 64)
		case "hold":
			next.Hold, err = time.ParseDuration(value)
		case "lose":
			next.Lose, err = probability(value)
		case "double":
			next.Double, err = probability(value)
		case "misdirect":
			next.Misdirect, err = probability(value)
		default:
			err = fmt.Errorf("there is no such switch; there are seed, hold, lose, double and misdirect")
		}
		if err != nil {
			return fmt.Errorf("switch %q: %w", name, err)
		}
	}
	*s = next
	return nil
}

func probability(s string) (float64, error) {
	p, err := strconv.ParseFloat(s, 64)
	if err == nil && !(p >= 0 && p <= 1) {
		err = fmt.Errorf("%q is no probability; it goes from 0 to 1", s)
	}
	return p, err
}

// wrong tells apart the dice of the switches.
type wrong byte

const (
	loseIt wrong = iota + 1
	doubleIt
	misdirectIt
)

// happens throws the die of a switch for one delivery.
func (s *Switches) happens(w wrong, p float64, b *Board, m relayed, to int32) bool {
	if p <= 0 {
		return false
	}
	h := fnv.New64a()
	var n [17]byte
	for i := range 8 {
		n[i], n[8+i] = byte(s.Seed>>(8*i)), byte(m.said>>(8*i))
	}
	n[16] = byte(w)
	h.Write(n[:])
	h.Write([]byte(m.from))
	h.Write([]byte{0})
	h.Write([]byte(b.members[to].name))
	// FNV's high bits are weak for short input; finish as splitmix64 does.
	z := h.Sum64()
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return float64((z^z>>31)>>11)/(1<<53) < p
}

// outsider picks a member of another room, or -1 where there is none: the
// first of the room after the message's own that has one who is not in it.
func (b *Board) outsider(m relayed, instead int32) int32 {
	start := 0
	for i, r := range b.rooms {
		if r == m.room {
			start = i + 1
		}
	}
	for i := range b.rooms {
		r := b.rooms[(start+i)%len(b.rooms)]
		for k := range r.members {
			other := r.members[(int(instead)+k)%len(r.members)]
			if other != instead && (m.room == nil || !b.members[other].in(m.room)) {
				return other
			}
		}
	}
	return -1
}

// Switches gives the board's switches, for reading and for throwing.
func (b *Board) Switches() *Switches { return &b.cfg.Switches }
