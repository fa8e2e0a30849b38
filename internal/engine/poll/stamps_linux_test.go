package poll

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// A slow owner works for a while on each message of 8 bytes, which are its number.
type slow struct {
	d      *epoll
	work   time.Duration
	opened int
	got    []arrival
	joined int             // messages that share a read with later ones
	errors []time.Duration // of the upper bound, by message
	wrong  []string
}

// An arrival is what the driver says of a message.
type arrival struct {
	number uint64
	joined bool
	came   mono.Span
}

func (s *slow) Accepted(int32)     {}
func (s *slow) Opened(int32)       { s.opened++ }
func (s *slow) Broke(int32, error) {}

// slack is how long the kernel may take to put what was written into the socket.
const slack = 20 * time.Millisecond

// judge compares what the driver says with when the messages were written: before
// and after the call.
func (s *slow) judge(before, after []mono.Time) {
	for _, a := range s.got {
		if a.joined && a.came.From > after[a.number].Add(slack) {
			s.wrong = append(s.wrong, "it says not before "+a.came.From.Sub(after[a.number]).String()+
				" after it was written")
		}
		if a.came.To < before[a.number].Add(-time.Millisecond) {
			s.wrong = append(s.wrong, "it says that it came "+before[a.number].Sub(a.came.To).String()+
				" before it was written")
		}
		s.errors = append(s.errors, max(0, a.came.To.Sub(before[a.number])))
	}
	slices.Sort(s.errors)
}

func (s *slow) Data(_ int32, b []byte, came mono.Span) {
	for ; len(b) >= 8; b = b[8:] {
		a := arrival{binary.LittleEndian.Uint64(b), len(b) >= 16, came}
		if a.joined {
			s.joined++
		}
		s.got = append(s.got, a)
		for until := mono.Now().Add(s.work); mono.Now() < until; {
		}
	}
}

// flood has a server write to many sockets faster than the owner works, and gives
// what the owner found.
func flood(t testing.TB, atOnce bool, sockets, rounds int, every, work time.Duration) *slow {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	d, err := newEpoll()
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	s := &slow{d: d.(*epoll), work: work}
	s.d.atOnce = atOnce
	at := netip.MustParseAddrPort(ln.Addr().String())
	var conns []net.Conn
	for i := range sockets {
		if err := d.Dial(int32(i), wire.Endpoint{Addr: at}); err != nil {
			t.Fatal(err)
		}
		c, err := ln.Accept()
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		conns = append(conns, c)
	}
	for end := time.Now().Add(10 * time.Second); s.opened < sockets && time.Now().Before(end); {
		if err := d.Wait(d.Now().Add(time.Millisecond), s); err != nil {
			t.Fatal(err)
		}
	}
	before, after := make([]mono.Time, sockets*rounds), make([]mono.Time, sockets*rounds)
	written := make(chan bool)
	go func() {
		defer close(written)
		var b [8]byte
		n := 0
		for range rounds {
			next := time.Now().Add(every)
			for _, c := range conns {
				binary.LittleEndian.PutUint64(b[:], uint64(n))
				before[n] = mono.Now()
				c.Write(b[:])
				after[n] = mono.Now()
				n++
			}
			time.Sleep(time.Until(next))
		}
	}()
	for end := time.Now().Add(60 * time.Second); len(s.got) < sockets*rounds; {
		if time.Now().After(end) {
			t.Fatalf("%d of %d messages came", len(s.got), sockets*rounds)
		}
		if err := d.Wait(d.Now().Add(time.Millisecond), s); err != nil {
			t.Fatal(err)
		}
	}
	<-written
	s.judge(before, after)
	return s
}

// TestStampsHold: when an owner is far behind, what the driver says of arrivals is
// still true: each is within its span.
func TestStampsHold(t *testing.T) {
	for _, atOnce := range []bool{false, true} {
		s := flood(t, atOnce, 200, 30, 2*time.Millisecond, 30*time.Microsecond)
		if len(s.wrong) > 0 {
			t.Errorf("%d of %d are wrong, such as: %s", len(s.wrong), len(s.errors), s.wrong[0])
		}
		if atOnce && s.joined == 0 {
			t.Error("nothing was joined, so this tells nothing")
		}
	}
}

// BenchmarkReadFirst compares reading first with working at once, by how far the
// stamps of a slow owner's messages are off.
func BenchmarkReadFirst(b *testing.B) {
	for b.Loop() {
		for _, atOnce := range []bool{true, false} {
			s := flood(b, atOnce, 1000, 100, 5*time.Millisecond, 8*time.Microsecond)
			name := map[bool]string{true: "-at-once", false: "-first"}[atOnce]
			n := len(s.errors)
			b.ReportMetric(float64(s.errors[n/2].Microseconds()), "p50-us"+name)
			b.ReportMetric(float64(s.errors[n*99/100].Microseconds()), "p99-us"+name)
			b.ReportMetric(100*float64(s.joined)/float64(n), "%joined"+name)
		}
	}
}

// TestBacklog: whatever is queued and taken, in any order, comes out as it went in,
// and the memory is bounded.
func TestBacklog(t *testing.T) {
	var b backlog
	next, want := byte(0), byte(0)
	for round := range 20000 {
		for range round % 7 {
			n := 1 + int(next)*37%5000
			copy(b.room(), slices.Repeat([]byte{next}, n))
			b.addData(0, 0, n, 0, 0)
			next++
			if next%5 == 0 {
				b.add(0, 0, 'b', errors.New(strconv.Itoa(int(next))))
			}
		}
		b.looked(mono.Time(round))
		for n := 0; n < (round+3)%8 && b.len() > 0; n++ {
			p, err := b.take()
			if p.what == 'b' {
				if err == nil || err.Error() != strconv.Itoa(int(want)) {
					t.Fatalf("round %d: %v, want %d", round, err, want)
				}
				continue
			}
			if d := p.data(); len(d) != 1+int(want)*37%5000 || d[0] != want || d[len(d)-1] != want {
				t.Fatalf("round %d: %d bytes of %d, want %d", round, len(d), d[0], want)
			}
			want++
		}
		if at, ok := b.caughtUp(); ok && b.len() == 0 && at != mono.Time(round) {
			t.Fatalf("nothing waits in round %d, and it is caught up to %d", round, at)
		}
	}
	for b.len() > 0 {
		b.take()
	}
	if b.bytes != 0 || len(b.used) > 1 || len(b.spare) > maxSpare || b.errors.Len() != 0 {
		t.Errorf("%d bytes are counted, %d blocks in use, %d spare", b.bytes, len(b.used), len(b.spare))
	}
}
