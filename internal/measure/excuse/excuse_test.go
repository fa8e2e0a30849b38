package excuse

import (
	"math/rand/v2"
	"testing"

	"tidepull/internal/base/mono"
)

// TestAgainstList begins, ends and looks for things at random, and compares with a list of all
// that ever happened.
func TestAgainstList(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		var s Store
		all := map[int32][]Excuse{}
		last := func(c int32, by Cause) *Excuse {
			for i := len(all[c]) - 1; i >= 0; i-- {
				if all[c][i].Cause == by {
					return &all[c][i]
				}
			}
			return nil
		}
		now := mono.Time(0)
		for range 2000 {
			now += mono.Time(r.IntN(4))
			s.Horizon = now - 60
			c, by := int32(r.IntN(3)), SlowReader+Cause(r.IntN(3))
			x := last(c, by)
			switch r.IntN(4) {
			case 0:
				began := s.Begin(c, by, now)
				if want := x == nil || x.To != mono.Never; began != want {
					t.Fatalf("seed %d: begins %v, want %v", seed, began, want)
				}
				if x == nil || x.To <= now {
					all[c] = append(all[c], Excuse{by, now, mono.Never})
				} else {
					x.To = mono.Never
				}
			case 1:
				until := now + mono.Time(r.IntN(9)) // what waits comes a little later
				ended := s.End(c, by, until)
				if want := x != nil && x.To == mono.Never; ended != want {
					t.Fatalf("seed %d: ends %v, want %v", seed, ended, want)
				} else if want {
					x.To = until
				}
			case 2:
				if r.IntN(40) == 0 {
					s.Drop(c, by)
					kept := all[c][:0]
					for _, x := range all[c] {
						if x.Cause != by {
							kept = append(kept, x)
						}
					}
					all[c] = kept
				}
			default:
				from := now - mono.Time(r.IntN(60))
				to := from + mono.Time(r.IntN(40))
				of := Of(SlowReader, HeldDown)
				var want Excuse
				found := false
				for _, x := range all[c] {
					if of.Has(x.Cause) && x.From <= to && x.To >= from && (!found || x.To > want.To) {
						want, found = x, true
					}
				}
				if got, is := s.Find(c, of, from, to); is != found || got.To != want.To {
					t.Fatalf("seed %d: from %d to %d found %+v %v, want %+v %v", seed, from, to, got, is, want, found)
				}
			}
		}
		for _, lines := range s.lines {
			for _, l := range lines {
				if cap(l.spans) > 256 {
					t.Fatalf("seed %d: %d spans are kept", seed, cap(l.spans))
				}
			}
		}
	}
}

// TestCauses: each cause has a name of its own and, if it is one, words; sets are by direction and
// effect.
func TestCauses(t *testing.T) {
	for c := SlowReader; c < NumCauses; c++ {
		if Named(c.String()) != c || c.Why() == "" {
			t.Errorf("cause %d is '%s', '%s'", c, c, c.Why())
		}
	}
	for c, lasts := range map[Cause]bool{None: false, SlowReader: true, Disturbed: true, LostOnPath: false,
		Behind: false} {
		if c.Lasts() != lasts {
			t.Errorf("'%s' lasts: %v", c, c.Lasts())
		}
	}
	if got := With(Hears, Late); got != Of(SlowReader, NotReading, HeldDown, Away) {
		t.Errorf("late for who hears: %b", got)
	}
	if Of(CutOff).Has(Away) || !Of(CutOff, Away).Has(Away) {
		t.Error("a set has what is not in it, or has not what is")
	}
}

// BenchmarkFind looks for what was in the way of a client to which it happened 10 times, and 1,000
// times.
func BenchmarkFind(b *testing.B) {
	for name, times := range map[string]int{"10": 10, "1000": 1000} {
		b.Run(name, func(b *testing.B) {
			var s Store
			for i := range times {
				s.Begin(7, HeldDown, mono.Time(10*i))
				s.End(7, HeldDown, mono.Time(10*i+5))
			}
			for b.Loop() {
				s.Find(7, With(Hears, Late), 41, 43)
			}
		})
	}
}
