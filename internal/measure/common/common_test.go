package common

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

func word(q string) func(string) string { return func(w string) string { return q + " is " + w } }

func number(q, than string) func(float64) string {
	return func(x float64) string { return fmt.Sprintf("%s is at %s %.0f", q, than, x) }
}

// asked are questions of deliveries: units are messages (0) and recipients (1).
var asked = []Question{
	{Unit: 0, Word: word("the room")},
	{Unit: 1, Word: word("the crew")},
	{Unit: 0, Word: word("the sender")},
	{Unit: 1, Most: number("the time since it entered", "most")},
	{Unit: 0, Most: number("the time", "most"), Least: number("the time", "least"), OfTime: true},
}

// delivery is one at random: of 400 messages to 60 clients.
func delivery(r *rand.Rand) Case {
	message, client := r.Int64N(400), r.Int64N(60)
	m := rand.New(rand.NewPCG(uint64(message), 7)) // what is a message's own is the same for all its recipients
	c := Case{Units: []int64{message, client}, Words: make([]string, len(asked)), Numbers: make([]float64, len(asked))}
	for i := range c.Numbers {
		c.Numbers[i] = math.NaN()
	}
	c.Words[0], c.Words[2] = fmt.Sprintf("lock-%d", m.IntN(5)), fmt.Sprintf("pilot-%d", m.IntN(60))
	c.Words[1] = []string{"pilots", "gauges", "guests"}[client%3]
	if c.Numbers[3] = r.ExpFloat64() * 3000; r.IntN(10) == 0 {
		c.Numbers[3] = math.NaN()
	}
	c.Numbers[4] = m.Float64() * 60
	c.Time = c.Numbers[4]
	return c
}

func deliveries(r *rand.Rand, n int, that func(*Case) bool) (all []Case) {
	for len(all) < n {
		if c := delivery(r); that(&c) {
			all = append(all, c)
		}
	}
	return all
}

func any1(*Case) bool { return true }

// TestPlanted finds what was put there, one condition or two, with a few that are otherwise.
func TestPlanted(t *testing.T) {
	for want, that := range map[string]func(*Case) bool{
		"the room is lock-3": func(c *Case) bool { return c.Words[0] == "lock-3" },
		"the crew is guests, and": func(c *Case) bool {
			return c.Words[1] == "guests" && c.Numbers[3] < 1500
		},
		"the sender is pilot-7":                  func(c *Case) bool { return c.Words[2] == "pilot-7" },
		"the time since it entered is at most 2": func(c *Case) bool { return c.Numbers[3] < 25 },
		"the time is at least 3":                 func(c *Case) bool { return c.Numbers[4] > 30 && c.Numbers[4] < 36 },
		"":                                       any1,
	} {
		r := rand.New(rand.NewPCG(1, 2))
		wrong := deliveries(r, 78, that)
		others := deliveries(r, 500, func(c *Case) bool { return !that(c) || want == "" })
		wrong = append(wrong, deliveries(r, 2, any1)...)
		f, found := Find(asked, wrong, others)
		if found != (want != "") || found && (!strings.Contains(f.Says("lost"), want) || f.Covers < 76 || f.Of != 80) {
			t.Errorf("wanted %q: %v, %v", want, f, found)
		}
		if want == "the time is at least 3" &&
			(len(f.Words) != 2 || !strings.Contains(f.Words[0]+f.Words[1], "at most 36")) {
			t.Errorf("not both ends: %v", f)
		}
	}
}

// TestTooFew: what is common to four, or to the many recipients of one message, says nothing.
func TestTooFew(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	others := deliveries(r, 500, any1)
	if f, found := Find(asked, deliveries(r, 4, func(c *Case) bool { return c.Words[0] == "lock-3" }), others); found {
		t.Errorf("of four: %v", f)
	}
	if f, found := Find(asked, deliveries(r, 60, func(c *Case) bool { return c.Units[0] == 11 }), others); found {
		t.Errorf("of one message: %v", f)
	}
	if f, found := Find(asked, deliveries(r, 60, any1), nil); found {
		t.Errorf("beside nothing: %v", f)
	}
}

// TestNoise: of deliveries that went wrong by chance nothing is said, in a thousand runs.
func TestNoise(t *testing.T) {
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 5))
		if f, found := Find(asked, deliveries(r, 5+r.IntN(60), any1), deliveries(r, 20+r.IntN(300), any1)); found {
			t.Errorf("seed %d: %v (%.3f of the others)", seed, f, f.Others)
		}
	}
}

// TestSpells: if everything goes wrong for a moment, or some moments, nothing but the time is common to it, although
// all of it may be soon after everybody had entered; unless what was well at the same time says otherwise.
func TestSpells(t *testing.T) {
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 6))
		spell := func(c *Case) bool {
			c.Numbers[3] = c.Time + 0.1*r.Float64() // all entered at the beginning
			in := c.Time > 9 && c.Time < 11
			for k := range seed % 3 {
				in = in || c.Time > 20+10*float64(k) && c.Time < 20.5+10*float64(k)
			}
			return in
		}
		wrong := deliveries(r, 40+r.IntN(60), func(c *Case) bool { return spell(c) && r.IntN(2) == 0 })
		others := deliveries(r, 1500, func(c *Case) bool { return !spell(c) || r.IntN(2) == 0 })
		if f, found := Find(asked, wrong, others); found && !strings.Contains(f.Says("late"), ": the time is") {
			t.Errorf("seed %d: %v", seed, f)
		}
		guests := deliveries(r, 40, func(c *Case) bool { return spell(c) && c.Words[1] == "guests" })
		others = deliveries(r, 1500, func(c *Case) bool { return !spell(c) || c.Words[1] != "guests" })
		if f, found := Find(asked, guests, others); !found || f.Words[0] != "the crew is guests" {
			t.Errorf("seed %d, of guests: %v %v", seed, f, found)
		}
	}
}
