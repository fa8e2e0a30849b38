package pressure

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/machine"
)

// A thread is one that is watched.
type thread struct {
	stat      *os.File // its schedstat, which is read again and again
	own       bool     // of the tool; else of the server
	ran, kept time.Duration
	// what they were at the beginning of the time over which it is judged
	markRan, markKept time.Duration
	seen              bool // in the last listing
}

// A look is what is kept from one look to the next. It belongs to the watcher's goroutine.
type look struct {
	threads map[int]*thread
	pids    []int
	listed  mono.Time // when threads were listed last
	judged  mono.Time
	marked  mono.Time     // since when marks count
	used    time.Duration // by the machine's cores, at marked
	pressed time.Duration // in which something waited for a core, at marked
	here    bool          // the server is on this machine
	stolen  time.Duration
	buffer  [4096]byte
}

func newLook() *look { return &look{threads: map[int]*thread{}, listed: -1, judged: -1} }

func (l *look) close() {
	for _, t := range l.threads {
		t.stat.Close()
	}
}

// look finds out what happened since the last look.
func (l *look) look(w *Watcher, s *sample, now mono.Time) (known bool) {
	if l.listed < 0 || now.Sub(l.listed) >= time.Second {
		l.listed = now
		l.list(w)
	}
	server := time.Duration(0)
	for id, t := range l.threads {
		ran, kept, ok := l.schedstat(t.stat)
		if !ok {
			t.stat.Close()
			delete(l.threads, id)
			continue
		}
		known = true
		s.Longest = max(s.Longest, kept-t.kept)
		t.ran, t.kept = ran, kept
		if !t.own {
			server += ran - t.markRan
		}
	}
	if l.judged < 0 || now.Sub(l.judged) >= judgeEvery {
		l.judge(s, now, server)
	}
	return known
}

// judge looks whether a thread starves, and what was taken from the machine.
func (l *look) judge(s *sample, now mono.Time, server time.Duration) {
	used, stolen := machine.Cores()
	if l.judged >= 0 {
		s.Longest = max(s.Longest, stolen-l.stolen)
	}
	l.stolen = stolen
	over, pressed := now.Sub(l.marked), l.pressedSoFar()
	if l.judged >= 0 && over >= judgedOver {
		if l.here && len(l.pids) == 0 && float64(pressed-l.pressed) >= crowded*float64(over) {
			s.Starved = over
		}
		others := float64(used-l.used-server) >= neighbours*float64(over)
		var ran, kept [2]time.Duration // of the tool's threads and of the server's
		for _, t := range l.threads {
			r, k := t.ran-t.markRan, t.kept-t.markKept
			if (others || t.own) && starves(r, k, over) {
				s.Starved = over
			}
			whose := 0
			if !t.own {
				whose = 1
			}
			ran[whose], kept[whose] = ran[whose]+r, kept[whose]+k
		}
		for i := range ran {
			if kept[i] > max(ran[i], littleWaiting) {
				s.Crowded = over
			}
		}
	}
	if l.judged < 0 || over >= judgedOver {
		l.marked, l.used, l.pressed = now, used, pressed
		for _, t := range l.threads {
			t.markRan, t.markKept = t.ran, t.kept
		}
	}
	l.judged = now
}

// starves reports whether a thread that ran and waited for so long wanted a core all the time,
// and had to wait for too much of it.
func starves(ran, kept, over time.Duration) bool {
	return float64(ran+kept) >= wantsAll*float64(over) && float64(kept) >= waitsFor*float64(over)
}

// list finds the threads that there are now.
func (l *look) list(w *Watcher) {
	for _, t := range l.threads {
		t.seen = false
	}
	own := os.Getpid()
	for _, id := range w.threads() {
		l.keep(own, id, true)
	}
	alive := l.pids[:0]
	for _, pid := range l.pids {
		if l.listOf(pid) {
			alive = append(alive, pid)
		}
	}
	if l.pids = alive; len(l.pids) == 0 && w.find != nil {
		var found []int
		found, l.here = w.find()
		for _, pid := range found {
			if l.listOf(pid) {
				l.pids = append(l.pids, pid)
			}
		}
	}
	for id, t := range l.threads {
		if !t.seen {
			t.stat.Close()
			delete(l.threads, id)
		}
	}
}

// listOf lists the threads of a process; false if it is gone.
func (l *look) listOf(pid int) bool {
	tasks, err := os.ReadDir(filepath.Join("/proc", strconv.Itoa(pid), "task"))
	if err != nil {
		return false
	}
	for _, task := range tasks {
		if id, err := strconv.Atoi(task.Name()); err == nil && len(l.threads) < maxThreads {
			l.keep(pid, id, false)
		}
	}
	return true
}

// keep watches a thread from now on, if it is not watched yet.
func (l *look) keep(pid, id int, own bool) {
	if t := l.threads[id]; t != nil {
		t.seen = true
		return
	}
	f, err := os.Open(filepath.Join("/proc", strconv.Itoa(pid), "task", strconv.Itoa(id), "schedstat"))
	if err != nil {
		return
	}
	t := &thread{stat: f, own: own, seen: true}
	var ok bool
	if t.ran, t.kept, ok = l.schedstat(f); !ok {
		f.Close()
		return
	}
	t.markRan, t.markKept = t.ran, t.kept
	l.threads[id] = t
}

// schedstat reads for how long a thread ran and for how long it was ready and had no core
// (Linux, Documentation/scheduler/sched-stats.rst), in nanoseconds.
func (l *look) schedstat(f *os.File) (ran, kept time.Duration, ok bool) {
	n, err := f.ReadAt(l.buffer[:], 0)
	words := bytes.Fields(l.buffer[:n])
	if n == 0 && err != nil || len(words) < 2 {
		return 0, 0, false
	}
	return time.Duration(number(words[0])), time.Duration(number(words[1])), true
}

// pressedSoFar reads for how long something on the machine had to wait for a core, or 0
// (Linux, Documentation/accounting/psi.rst), in microseconds.
func (l *look) pressedSoFar() time.Duration {
	f, err := os.Open("/proc/pressure/cpu")
	if err != nil {
		return 0
	}
	defer f.Close()
	n, _ := f.Read(l.buffer[:])
	line, _, _ := bytes.Cut(l.buffer[:n], []byte{'\n'})
	_, total, _ := bytes.Cut(line, []byte("total="))
	return time.Duration(number(total)) * time.Microsecond
}

func number(b []byte) int64 {
	n, _ := strconv.ParseInt(string(b), 10, 64)
	return n
}
