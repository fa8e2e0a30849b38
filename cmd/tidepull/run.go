package main

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/charmbracelet/x/term"

	"tidepull/internal/client"
	"tidepull/internal/engine"
	"tidepull/internal/report/export"
	"tidepull/internal/report/headless"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/tui"
	"tidepull/internal/wire"
)

// showing are the flags of commands that carry out a trial.
type showing struct {
	Headless bool   `help:"${headless}"`
	Out      string `placeholder:"DIR" help:"${run_out}"`
	Metrics  string `placeholder:"ADDR" help:"Serve live figures to Prometheus at http://ADDR/metrics."`
	remote
	spreading
	overing
	From     []netip.Addr `placeholder:"ADDR,..." help:"${from}"`
	Portable bool         `help:"${portable}"`
}

// spreading are the flags that say over what clients are dealt out.
type spreading struct {
	Loops   int `placeholder:"N" help:"${loops}"`
	Workers int `placeholder:"N" help:"${workers}"`
}

func (s *spreading) check() error {
	if s.Loops < 0 || s.Loops > trial.MaxLoops {
		return fmt.Errorf("--loops is %d; it may be 1 to %d", s.Loops, trial.MaxLoops)
	}
	if s.Workers < 0 || s.Workers > run.MostWorkers {
		return fmt.Errorf("--workers is %d; it may be 1 to %d", s.Workers, run.MostWorkers)
	}
	return nil
}

type runCommand struct {
	File   string            `arg:"" help:"The trial, a .trial.hcl file."`
	Target string            `placeholder:"URL" help:"Run against this ws:// address instead of the trial's."`
	Set    map[string]string `mapsep:"none" placeholder:"NAME=VALUE" help:"${set}"`
	connecting
	breaking
	showing
}

// connecting is the flag of commands that can reach a server under another name.
type connecting struct {
	ConnectTo string `placeholder:"ADDRESS" help:"${connect_to}"`
}

// where checks the flag.
func (c *connecting) where() (wire.Endpoint, error) {
	if c.ConnectTo == "" {
		return wire.Endpoint{}, nil
	}
	at, err := wire.ParseEndpoint(c.ConnectTo)
	if err != nil {
		return at, fmt.Errorf("--connect-to: %w", err)
	}
	return at, nil
}

func (c *runCommand) Run(a *app) error {
	t, err := language.Load(c.File, language.Options{Target: c.Target, Set: c.Set, Kernel: c.Path == "kernel"})
	if err != nil {
		return err
	}
	if c.Path == "own" {
		t.Kernel = false
	}
	if err := enter(t); err != nil {
		return err
	}
	if err := c.redirect(t); err != nil {
		return err
	}
	return c.carryOut(a, t)
}

// redirect has a trial's clients connect to where the flag says.
func (c *connecting) redirect(t *trial.Trial) error {
	_, err := c.where()
	if err == nil && c.ConnectTo != "" {
		t.Target.At = c.ConnectTo
	}
	return err
}

// carryOut runs a trial, shows it, writes what was asked for, and returns what
// the exit status follows from.
func (s *showing) carryOut(a *app, t *trial.Trial) error {
	if err := s.spreading.check(); err != nil {
		return err
	}
	if err := s.mayRun(t); err != nil {
		return err
	}
	if s.Metrics != "" {
		if err := s.mayListen("--metrics", s.Metrics); err != nil {
			return err
		}
	}
	if s.Out != "" {
		if err := run.TryOut(s.Out); err != nil {
			return err
		}
	}
	// Whoever reads what is printed may go away before the end; the results are written all the same.
	signal.Ignore(syscall.SIGPIPE)
	over, err := s.over()
	switch {
	case err != nil:
		return err
	case over != nil && (s.Workers > 0 || len(s.From) > 0):
		return errors.New("--workers and --from are of this machine: with --over each machine has as many as it takes")
	}
	l, err := a.start(t, run.Options{Portable: s.Portable, Loops: s.Loops, Workers: s.Workers, Over: over,
		From: s.From, Live: !s.Headless && onTerminal()})
	if err != nil {
		return err
	}
	if s.Metrics != "" {
		stop, err := export.Metrics(s.Metrics, l.Snapshot)
		if err != nil {
			l.Abort()
			l.wait()
			return err
		}
		defer stop()
	}
	screen := !s.Headless && onTerminal()
	stopSignals := onSignals(l.Run, screen)
	defer stopSignals()
	var written error
	if !screen {
		if why := noScreen(); why != "" && !s.Headless {
			fmt.Println(why)
		}
		headless.Follow(os.Stdout, l.Run)
		written = s.write(l)
	} else {
		writing := make(chan error, 1)
		go func() { writing <- s.write(l) }() // when the run is over, whoever still looks at it
		if err := tui.Show(l, a); err != nil {
			l.Abort()
			l.wait()
			return fmt.Errorf("the screen: %w", err)
		}
		written = <-writing
	}
	last := l.wait()
	var unreachable *engine.Unreachable
	reached := !errors.As(last.Err, &unreachable)
	switch id, trouble := l.kept(); {
	case !reached:
	case trouble != "":
		fmt.Printf("attention: %s\n", trouble)
	case id != 0:
		fmt.Printf("kept as run %d: tidepull runs show %d\n", id, id)
	}
	headless.Report(os.Stdout, last)
	switch {
	case written != nil:
		return written
	case !reached:
		return notReached(last.Err)
	}
	switch last.Overall() {
	case run.Broken:
		return &exitError{status: exitBroken}
	case run.NotProven:
		return &exitError{status: exitNotProven}
	}
	return nil
}

// write writes the results, if they are asked for, once the run is over.
func (s *showing) write(l *live) error {
	last := l.Run.Wait()
	if s.Out == "" {
		return nil
	}
	return export.Results(s.Out, last)
}

// onTerminal reports whether there is a terminal that a full screen can be drawn
// on.
func onTerminal() bool {
	return term.IsTerminal(os.Stdout.Fd()) && term.IsTerminal(os.Stdin.Fd()) && noScreen() == ""
}

// noScreen says why a terminal cannot show a full screen, or "".
func noScreen() string {
	if kind := os.Getenv("TERM"); kind == "dumb" && term.IsTerminal(os.Stdout.Fd()) {
		return "this terminal (TERM=dumb) cannot show a full screen; plain lines instead"
	}
	return ""
}

// onSignals stops the run in order at the first interrupt, and at once at the
// second.
func onSignals(r *run.Run, screen bool) (stop func()) {
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	if !screen && !signal.Ignored(syscall.SIGHUP) { // the screen sees to that by itself; nohup wants it ignored
		signal.Notify(signals, syscall.SIGHUP)
	}
	done := make(chan struct{})
	go func() {
		for n := 0; ; n++ {
			select {
			case <-signals:
				if n == 0 {
					r.Stop()
				} else {
					r.Abort()
				}
			case <-done:
				return
			}
		}
	}()
	return func() {
		signal.Stop(signals)
		close(done)
	}
}

// trialsIn gives files, and of folders the trials in them.
func trialsIn(paths []string) (files []string, err error) {
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil || !info.IsDir() {
			files = append(files, path) // what is wrong with it is said where it is read
			continue
		}
		found, err := filepath.Glob(filepath.Join(path, "*.trial.hcl"))
		if err != nil {
			return nil, fmt.Errorf("looking for trials in %s: %w", path, err)
		}
		if len(found) == 0 {
			return nil, fmt.Errorf("there is no trial in the folder %s: their names end in .trial.hcl", path)
		}
		files = append(files, found...)
	}
	return files, nil
}

type checkCommand struct {
	Files  []string          `arg:"" help:"Trials, .trial.hcl files, or folders of them."`
	Target string            `placeholder:"URL" help:"Check as for this address."`
	Set    map[string]string `mapsep:"none" placeholder:"NAME=VALUE" help:"Set a variable of the trial."`
}

// Run reads all files before it fails, so that one mistake does not hide those in
// other files.
func (c *checkCommand) Run() error {
	wrong := 0
	files, err := trialsIn(c.Files)
	if err != nil {
		return err
	}
	for _, file := range files {
		t, err := language.Load(file, language.Options{Target: c.Target, Set: c.Set})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			wrong++
			continue
		}
		fmt.Printf("%s: trial %q, %s in %s, %v, %s: no errors\n", file, t.Name, several(t.Clients(), "client"),
			several(len(t.Crews), "crew"), t.Length(), several(len(t.Limits), "limit"))
		warnings := t.Warnings()
		if name, n := client.SharedName(t); n > 0 && t.Dialect.Announces() {
			warnings = append(warnings, fmt.Sprintf("%d clients have the name %q: who enters and leaves of them is "+
				"judged by how many announcements come, and a whisper to that name is owed to all of them", n, name))
		}
		for _, w := range warnings {
			fmt.Printf("%s: attention: %s\n", file, w)
		}
	}
	if wrong > 0 {
		return &exitError{status: exitWrong}
	}
	return nil
}

// several writes so many of something: 1 crew, 2 crews.
func several(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
