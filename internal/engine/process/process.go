// Package process runs the server under test: starts it, waits until it is ready, makes it
// stop, stand still or begin again, and asks the system what it uses.
package process

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"tidepull/internal/base/plain"
)

// Config says how a server is run.
type Config struct {
	Command []string      // that starts it; nil: PID runs already
	Dir     string        // where; "": here
	PID     int           // of one that runs already
	Ready   string        // what stands in a line of its output once it is ready; "": Address accepts connections
	Address string        // HOST:PORT; "": nothing is waited for
	Within  time.Duration // how soon it must be ready, and how long it may take to end
}

// A Server is a server's process, from one start to the next. It belongs to one goroutine.
type Server struct {
	cfg  Config
	cmd  *exec.Cmd
	pid  int // 0: it does not run
	gone chan struct{}
	said chan struct{} // closed once all its output is read

	mu    sync.Mutex // guards what follows
	lines []Line     // the last of its output
	ended *Ending    // the last time that it ended by itself; nil: it has not
	ready chan struct{}

	stopping bool // it is made to end
}

// A Line is one line of what a server wrote, safe to show, and when it was read.
type Line struct {
	At   time.Time
	Text string
}

// An Ending is that a server's process ended by itself.
type Ending struct {
	At  time.Time
	How string // "exit status 3"
}

// keptLines bounds what is kept of a server's output, and inLine the characters of a line.
const (
	keptLines = 1000
	inLine    = 300
)

// Wrote gives the last that the server wrote, the oldest first.
func (s *Server) Wrote() []Line {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.lines)
}

// Ended is how the server ended by itself, the last time; nil if it has not, or if it was not started here.
func (s *Server) Ended() *Ending {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ended
}

// Start starts the server, or takes one that runs, and waits until it is ready.
func Start(ctx context.Context, cfg Config) (*Server, error) {
	s := &Server{cfg: cfg}
	if len(cfg.Command) == 0 {
		s.pid = cfg.PID
		if _, ok := Use(s.pid); !ok {
			return nil, fmt.Errorf("the server: there is no process %d, or nothing can be known of it", s.pid)
		}
		return s, nil
	}
	return s, s.begin(ctx)
}

// PID is the process; 0 if it does not run.
func (s *Server) PID() int { return s.pid }

// begin starts the command and waits until it is ready. If that fails nothing runs.
func (s *Server) begin(ctx context.Context) error {
	s.mu.Lock()
	s.stopping = false
	s.mu.Unlock()
	s.cmd = exec.Command(s.cfg.Command[0], s.cfg.Command[1:]...)
	s.cmd.Dir = s.cfg.Dir
	apart(s.cmd)
	out, in, err := os.Pipe()
	if err != nil {
		return fmt.Errorf("the server's output: %w", err)
	}
	s.cmd.Stdout, s.cmd.Stderr = in, in
	gone := make(chan struct{})
	if _, err = s.cmd.StdinPipe(); err == nil { // it may end with this process by that, also if that is killed
		err = startAndWait(s.cmd, gone, s.hasEnded)
	}
	in.Close()
	if err != nil {
		out.Close()
		return fmt.Errorf("the server %q does not start: %w", s.cfg.Command[0], err)
	}
	s.pid, s.gone, s.ready, s.said = s.cmd.Process.Pid, gone, make(chan struct{}), make(chan struct{})
	go s.listen(out, s.ready, s.said)
	if err := s.awaitReady(ctx); err != nil {
		s.end(true)
		return fmt.Errorf("the server is not ready: %w%s", err, s.lastWords())
	}
	return nil
}

// startAndWait starts a command, and closes gone once it has ended. Where the system signals the end of a
// parent, that is the end of the thread that started the child: it waits for the child, and for nothing else.
// That is told with how it ended.
func startAndWait(cmd *exec.Cmd, gone chan struct{}, ended func(cmd *exec.Cmd)) error {
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // and the thread ends with this
		err := cmd.Start()
		if started <- err; err == nil {
			cmd.Wait() // how it ended stands in its state
			ended(cmd)
			close(gone)
		}
	}()
	return <-started
}

// hasEnded notes that the process has ended, if nobody made it.
func (s *Server) hasEnded(cmd *exec.Cmd) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.stopping {
		s.ended = &Ending{time.Now(), cmd.ProcessState.String()}
	}
}

// listen keeps the last lines of a server's output, until it ends.
func (s *Server) listen(out io.ReadCloser, ready, said chan struct{}) {
	defer close(said)
	defer out.Close()
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		s.mu.Lock()
		s.lines = append(s.lines, Line{time.Now(), plain.Text(lines.Text(), inLine)})
		if len(s.lines) > keptLines {
			s.lines = s.lines[1:]
		}
		s.mu.Unlock()
		if ready != nil && s.cfg.Ready != "" && strings.Contains(lines.Text(), s.cfg.Ready) {
			close(ready)
			ready = nil
		}
	}
	io.Copy(io.Discard, out) // after a line that is too long
}

// lastWords are what the server said last, for an error.
func (s *Server) lastWords() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.lines) == 0 {
		return ""
	}
	var last []string
	for _, l := range s.lines[max(0, len(s.lines)-3):] {
		last = append(last, l.Text)
	}
	return "; the last that it said is: " + strings.Join(last, " / ")
}

// awaitReady waits until the server is ready.
func (s *Server) awaitReady(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, s.cfg.Within, fmt.Errorf("it has not been within %v", s.cfg.Within))
	defer cancel()
	if s.cfg.Ready == "" && s.cfg.Address == "" {
		return nil
	}
	for {
		if s.cfg.Ready == "" {
			d := net.Dialer{Timeout: time.Second}
			if conn, err := d.DialContext(ctx, "tcp", s.cfg.Address); err == nil {
				conn.Close()
				return nil
			}
		}
		select {
		case <-s.ready:
			return nil
		case <-s.gone:
			select {
			case <-s.said:
			case <-time.After(time.Second): // somebody that it started still holds its output
			}
			if e := s.Ended(); e != nil {
				return fmt.Errorf("it has ended (%s)", e.How)
			}
			return errors.New("it has ended")
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Stop ends the server: politely (SIGTERM), or rudely (SIGKILL).
func (s *Server) Stop(rude bool) error {
	if s.pid == 0 {
		return errors.New("the server does not run")
	}
	return s.end(rude)
}

func (s *Server) end(rude bool) error {
	pid, gone := s.pid, s.gone
	s.pid = 0
	s.mu.Lock()
	s.stopping = true
	s.mu.Unlock()
	if err := signal(pid, s.cmd != nil, rude); err != nil {
		return fmt.Errorf("stopping the server: %w", err)
	}
	if s.cmd == nil { // whoever started it waits for it
		return nil
	}
	select {
	case <-gone:
	case <-time.After(s.cfg.Within):
		_ = signal(pid, true, true) // it does not listen
		<-gone
	}
	return nil
}

// Begin starts a server again that was stopped.
func (s *Server) Begin(ctx context.Context) error {
	if s.pid != 0 {
		return errors.New("the server runs already")
	}
	return s.begin(ctx)
}

// Pause makes the server stand still, or go on.
func (s *Server) Pause(on bool) error {
	if s.pid == 0 {
		return errors.New("the server does not run")
	}
	return pause(s.pid, s.cmd != nil, on)
}

// Runs reports whether the process is there.
func (s *Server) Runs() bool {
	if s.pid == 0 {
		return false
	}
	_, ok := Use(s.pid)
	return ok
}

// End ends a server that was started here, once the run is over; one that ran before goes on.
func (s *Server) End() {
	if s.cmd != nil && s.pid != 0 {
		_ = s.end(false)
	} else if s.pid != 0 {
		_ = pause(s.pid, false, false) // in case that it was left standing still
	}
}

// A Used is what a process uses at the moment; CPU is what it has used so far.
type Used struct {
	Memory  int64 // resident, in bytes
	CPU     time.Duration
	Files   int // open descriptors
	Threads int
}
