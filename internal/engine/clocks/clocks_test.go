package clocks

import (
	"context"
	"math"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tidepull/internal/engine/machine"
)

// TestBounds: whatever the network and the clocks do, the offset is within what the bounds say, also between exchanges
// and with many that are lost; the course stays on it, never goes back, and on a good network knows it to half of the
// least round trip and a little.
func TestBounds(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 26))
		// The other clock, by this one: a shift, a drift, and a drift that changes slowly.
		shift := r.Float64()*2e12 - 1e12
		drift := (r.Float64() - 0.5) * 600e-6
		wander, period := r.Float64()*10e-6, 20e9+r.Float64()*60e9
		there := func(here float64) float64 {
			return here + shift + drift*here + wander*period/(2*math.Pi)*math.Sin(2*math.Pi*here/period)
		}
		least, jitter, lost := 20e3+r.Float64()*2e6, r.Float64()*3e6, r.Float64()*0.7
		oneSided := r.IntN(2) == 0
		way := func(back bool) float64 {
			d := least / 2
			if oneSided && back { // the worst of networks: all of the way is one of the two directions
				d = least
			} else if oneSided {
				d = 0
			}
			return d + r.ExpFloat64()*jitter*float64(r.IntN(2))
		}
		var b Bounds
		var course *Course
		last := int64(math.MinInt64)
		for now, next := 1e9, 1.2e9; now < 60e9; now += 50e6 {
			if now < 5e9 || r.Float64() > lost {
				arrives := now + way(false)
				leaves := arrives + r.Float64()*50e3
				back := leaves + way(true)
				b.Take(Exchange{Sent: int64(now), Received: int64(math.Ceil(there(arrives))),
					Answered: int64(there(leaves)), Back: int64(math.Ceil(back))})
				now = max(now, back)
			}
			offset, off := b.At(int64(now))
			if wrong := math.Abs(there(now) - now - float64(offset)); wrong > float64(off)+2 {
				t.Fatalf("seed %d, at %.1f s: the offset is wrong by %.1f us, and said to be by %.1f", seed,
					now/1e9, wrong/1e3,
					float64(off)/1e3)
			}
			if now < next {
				continue
			}
			next = now + float64(courseEvery)
			c, err := b.Next(course, int64(now))
			if err != nil || b.Broken > 0 {
				t.Fatalf("seed %d: %v, %d broken", seed, err, b.Broken)
			}
			course = c
			for at := now; at < now+50e6; at += 10e6 {
				shows := course.At(int64(at))
				if shows <= last {
					t.Fatalf("seed %d: time goes back by %d ns", seed, last-shows)
				}
				last = shows
				if wrong := math.Abs(float64(shows) - there(at)); wrong > float64(course.Off)+2 {
					t.Fatalf("seed %d, at %.1f s: time is off by %.1f us, and said to be by %.1f", seed, at/1e9,
						wrong/1e3,
						float64(course.Off)/1e3)
				}
			}
		}
		if most := least/2 + jitter + 300e3; float64(course.Off) > most {
			t.Errorf("seed %d: at the end the clock is known to %.1f us; the least way is %.1f us, and varies by "+
				"%.1f", seed,
				float64(course.Off)/1e3, least/1e3, jitter/1e3)
		}
	}
}

// TestJumped: a clock that is set says so; and nonsense from the network changes nothing.
func TestJumped(t *testing.T) {
	var b Bounds
	ask := func(at, offset int64) { b.Take(Exchange{at, at + 50_000 + offset, at + 60_000 + offset, at + 110_000}) }
	second := int64(time.Second)
	for i := range int64(20) {
		ask(i*second/10+1, 7)
	}
	course, err := b.Next(nil, 2*second)
	if err != nil || course.Off > 200*time.Microsecond {
		t.Fatalf("%+v, %v", course, err)
	}
	was := b
	for _, x := range []Exchange{{}, {5 * second, 9, 8, 6 * second}, {2 * second, 1, 2, 9 * second},
		{4 * second, 1, 1 + 2*second, 4*second + 1}, {second, second, second, second + 1}} {
		if b.Take(x) {
			t.Errorf("%+v says something", x)
		}
	}
	if was.at != b.at || was.lo != b.lo || was.hi != b.hi {
		t.Error("and changed the bounds")
	}
	ask(3*second, 3*second)
	if _, err := b.Next(course, 3*second+second/10); err == nil || b.Broken != 1 {
		t.Errorf("a clock that was set by 3 s: %v, %d times", err, b.Broken)
	}
	skew := Skew{Shift: -5 * time.Hour, PPM: 130, Since: 7 * second}
	wrong := Course{Here: skew.Of(20 * second), There: 99 * second, Rate: -20e-6}
	right := skew.Undo(wrong)
	for at := 15 * second; at < 40*second; at += second {
		if a, b := wrong.At(skew.Of(at)), right.At(at); a-b > 10 || b-a > 10 {
			t.Errorf("at %d s: %d, and %d by the right clock", at/second, a, b)
		}
	}
}

// badRoad passes datagrams on to an address and back: each is lost or held up for a while, so that some overtake
// others.
func badRoad(t *testing.T, to netip.AddrPort, lost float64, most time.Duration) netip.AddrPort {
	t.Helper()
	near, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("127.0.0.1:0")))
	if err != nil {
		t.Fatal(err)
	}
	far, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
	if err != nil {
		t.Fatal(err)
	}
	var asker atomic.Pointer[netip.AddrPort]
	var on sync.WaitGroup
	pass := func(from *net.UDPConn, send func([]byte)) {
		for b := make([]byte, 100); ; {
			n, who, err := from.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			if from == near {
				asker.Store(&who)
			}
			if rand.Float64() < lost {
				continue
			}
			held := append([]byte(nil), b[:n]...)
			on.Go(func() {
				time.Sleep(rand.N(most))
				send(held)
			})
		}
	}
	on.Go(func() { pass(near, func(b []byte) { _, _ = far.Write(b) }) })
	on.Go(func() { pass(far, func(b []byte) { _, _ = near.WriteToUDPAddrPort(b, *asker.Load()) }) })
	t.Cleanup(func() {
		near.Close()
		far.Close()
		on.Wait()
	})
	return near.LocalAddr().(*net.UDPAddr).AddrPort()
}

// TestClock: over sockets, and over a network that delays and loses datagrams, a clock that is hours off and runs away
// is followed to within what the course says, and who does not know the secret is told nothing.
func TestClock(t *testing.T) {
	for name, road := range map[string]func(netip.AddrPort) netip.AddrPort{
		"straight": func(to netip.AddrPort) netip.AddrPort { return to },
		"bad road": func(to netip.AddrPort) netip.AddrPort { return badRoad(t, to, 0.2, 8*time.Millisecond) },
	} {
		t.Run(name, func(t *testing.T) { t.Parallel(); followsClock(t, road) })
	}
}

func followsClock(t *testing.T, road func(netip.AddrPort) netip.AddrPort) {
	secret := Secret{1, 2, 3}
	clock, err := Serve(netip.MustParseAddrPort("127.0.0.1:0"), secret)
	if err != nil {
		t.Fatal(err)
	}
	defer clock.Close()
	skew := Skew{Shift: 3 * time.Hour, PPM: -180, Since: machine.Own()}
	at := road(clock.Addr())
	line, err := Dial(at, secret, skew)
	if err != nil {
		t.Fatal(err)
	}
	defer line.Close()
	b, err := First(context.Background(), line.Ask)
	if err != nil {
		t.Fatal(err)
	}
	told := 0
	ctx, end := context.WithCancel(context.Background())
	err = Watch(ctx, b, line.Ask, skew, func(c Course) error {
		if told++; told > 30 {
			end()
		}
		here := machine.Own()
		if wrong := time.Duration(c.At(here) - here); wrong.Abs() > c.Off {
			t.Errorf("course %d is off by %v, and said to be by %v", told, wrong, c.Off)
		}
		return nil
	})
	if err != nil || told < 30 {
		t.Errorf("%v, %d courses", err, told)
	}
	stranger, err := Dial(at, Secret{1, 2, 4}, Skew{})
	if err != nil {
		t.Fatal(err)
	}
	defer stranger.Close()
	if x, ok := stranger.Ask(100 * time.Millisecond); ok {
		t.Errorf("a stranger was told %+v", x)
	}
}
