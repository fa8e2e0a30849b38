package pressure

import (
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"syscall"
	"testing"
	"time"

	"tidepull/internal/base/mono"
)

// TestListening: the process that serves at an address is found, and none at another.
func TestListening(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	at := l.Addr().(*net.TCPAddr).AddrPort()
	beside := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.2"), at.Port())
	elsewhere := netip.MustParseAddrPort("203.0.113.7:80")
	for _, tc := range []struct {
		at   []netip.AddrPort
		want []int
		here bool
	}{
		{[]netip.AddrPort{elsewhere, at}, []int{os.Getpid()}, true},
		{[]netip.AddrPort{beside}, nil, true}, {[]netip.AddrPort{elsewhere}, nil, false},
	} {
		if got, here := Listening(tc.at); !slices.Equal(got, tc.want) || here != tc.here {
			t.Errorf("at %v serves %v (here: %v), want %v", tc.at, got, here, tc.want)
		}
	}
}

// TestStarved: a thread that wants a core for itself starves beside many others, be it the
// tool's or the server's; and of a server that cannot be seen the machine says so.
func TestStarved(t *testing.T) {
	for range 4 * runtime.NumCPU() {
		c := exec.Command("sh", "-c", "while :; do :; done")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		defer func() { c.Process.Kill(); c.Wait() }()
	}
	stop := make(chan struct{})
	defer close(stop)
	id := make(chan int)
	go func() {
		runtime.LockOSThread()
		for id <- syscall.Gettid(); ; {
			select {
			case <-stop:
				return
			default:
			}
		}
	}()
	thread := <-id
	for name, find := range map[string]func() ([]int, bool){
		"a loop of the tool": func() ([]int, bool) { return nil, false },
		"the server":         func() ([]int, bool) { return []int{os.Getpid()}, true },
		"an unseen server":   func() ([]int, bool) { return nil, true },
	} {
		began := mono.Now()
		w := Watch(find)
		if name == "a loop of the tool" {
			w.Loop(thread)
		}
		for p := (Pressure{}); p.Starved < time.Second || p.Longest == 0 && name != "an unseen server"; {
			if mono.Now().Sub(began) > 30*time.Second {
				t.Fatalf("%s: nothing was found out: %+v", name, p)
			}
			time.Sleep(20 * time.Millisecond)
			p = w.Between(began, mono.Now())
		}
		w.Stop()
		if p := w.Between(began.Add(-2*time.Hour), began.Add(-time.Hour)); p != (Pressure{}) {
			t.Errorf("%s: something is known of the time before: %+v", name, p)
		}
	}
}

// TestBetween: what a look found counts for the time that it is about.
func TestBetween(t *testing.T) {
	const ms = mono.Time(time.Millisecond)
	w := &Watcher{samples: []sample{
		{0, 20 * ms, Pressure{Known: true, Longest: time.Millisecond}},
		{20 * ms, 40 * ms, Pressure{Known: true, Starved: time.Millisecond}},
		{40 * ms, 400 * ms, Pressure{Known: true, Longest: 390 * time.Millisecond, Stood: 340 * time.Millisecond}},
	}}
	for _, tc := range []struct {
		from, to mono.Time
		want     Pressure
	}{
		{0, 5 * ms, Pressure{Known: true, Longest: time.Millisecond}},
		{25 * ms, 30 * ms, Pressure{Known: true, Longest: 390 * time.Millisecond, Starved: time.Millisecond,
			Stood: 340 * time.Millisecond}},
		{500 * ms, 600 * ms, Pressure{}},
	} {
		if got := w.Between(tc.from, tc.to); got != tc.want {
			t.Errorf("between %v and %v: %+v, want %+v", tc.from, tc.to, got, tc.want)
		}
	}
}

// TestKept: the longest that a thread waited for a core is what it waited since the last look, not in all.
func TestKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "schedstat")
	write := func(text string) {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("1000000 40000000 7\n")
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	l := newLook()
	defer l.close()
	l.threads[1] = &thread{stat: f, own: true}
	w, s := &Watcher{}, &sample{}
	l.listed, l.judged = 0, 0
	if !l.look(w, s, 1) || s.Longest != 40*time.Millisecond {
		t.Errorf("first %v", s.Longest)
	}
	write("2000000 45000000 9\n")
	if s = (&sample{}); !l.look(w, s, 2) || s.Longest != 5*time.Millisecond {
		t.Errorf("then %v", s.Longest)
	}
}
