package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"tidepull/internal/engine/machine"
	"tidepull/internal/report/export"
	"tidepull/internal/report/store"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/tui"
	"tidepull/internal/tui/home"
	"tidepull/trials"
)

// An app is what all commands share. It is also the shell that the interface
// asks to start things.
type app struct {
	log       *slog.Logger
	storePath string
	store     *store.Store
	noStore   string // why there is no store
	opened    bool
}

// runs opens the store once. Without one the tool works, and says why.
func (a *app) runs() *store.Store {
	if a.opened {
		return a.store
	}
	a.opened = true
	if a.storePath == "-" {
		return nil
	}
	path := a.storePath
	if path == "" {
		path = store.DefaultPath()
	}
	s, err := store.Open(path)
	if err != nil {
		a.noStore = err.Error()
		a.log.Error("no store", "error", err)
		return nil
	}
	a.store = s
	return s
}

// mustRuns is runs for commands that are about the store.
func (a *app) mustRuns() (*store.Store, error) {
	if s := a.runs(); s != nil {
		return s, nil
	}
	if a.noStore != "" {
		return nil, fmt.Errorf("%s", a.noStore)
	}
	return nil, fmt.Errorf("--store - keeps no runs")
}

// withRuns does something with the store, if there is one.
func (a *app) withRuns(f func(*store.Store) error) error {
	s, err := a.mustRuns()
	if err != nil {
		return err
	}
	return f(s)
}

// load reads a kept run, and its line of the list.
func (a *app) load(id int64) (r store.Run, snap *run.Snapshot, err error) {
	err = a.withRuns(func(s *store.Store) error {
		if r, err = s.Run(id); err != nil {
			return err
		}
		snap, err = s.Load(id)
		return err
	})
	return r, snap, err
}

func (a *app) close() {
	if a.store != nil {
		a.store.Close()
	}
}

// A live is a run that goes on, with who keeps it and what it runs against.
type live struct {
	*run.Run
	keeper  *store.Keeper
	noStore string
	board   *standinProcess // nil if the target is somebody else's
}

// start starts a run, and keeps it in the store if there is one: a store that cannot
// be opened ends no run, and the screen says so.
func (a *app) start(t *trial.Trial, o run.Options) (*live, error) {
	debug.SetMemoryLimit(memoryFor(t.Clients()))
	o.Trial, o.Log = t, a.log
	r, err := run.Start(context.Background(), o)
	if err != nil {
		return nil, err
	}
	l := &live{Run: r}
	if s := a.runs(); s != nil {
		l.keeper = s.Keep(r, Version)
	}
	l.noStore = a.noStore
	return l, nil
}

// Trouble implements tui.Source.
func (l *live) Trouble() string {
	_, trouble := l.kept()
	return trouble
}

// kept gives the run's number in the store, and why it is not being kept.
func (l *live) kept() (id int64, trouble string) {
	if l.keeper == nil {
		if l.noStore != "" {
			return 0, "the run is not being kept: " + l.noStore
		}
		return 0, ""
	}
	return l.keeper.ID(), l.keeper.Trouble()
}

// Abort ends the run at once and waits until it is written.
func (l *live) Abort() {
	l.Run.Abort()
	l.wait()
	if l.board != nil {
		l.board.stop()
		l.board = nil
	}
}

// wait blocks until the run is over and written.
func (l *live) wait() *run.Snapshot {
	last := l.Run.Wait()
	if l.keeper != nil {
		l.keeper.Wait()
	}
	return last
}

type homeCommand struct{}

func (homeCommand) Run(a *app) error {
	if !onTerminal() {
		return fmt.Errorf("the home screen needs a terminal; tidepull --help lists the commands")
	}
	return tui.ShowHome(a)
}

// Home implements tui.Shell.
func (a *app) Home() home.Model {
	files, _ := filepath.Glob("*.trial.hcl")
	more, _ := filepath.Glob("trials/*.trial.hcl")
	s := a.runs()
	return home.New(append(files, more...), s, a.noStore)
}

// Start implements tui.Shell.
func (a *app) Start(what home.Action, done func(share float64)) (tui.Source, error) {
	switch {
	case what.Run != 0:
		s, err := a.runs().LoadWatched(what.Run, done)
		return tui.Kept{Run: s}, err
	case what.Trial != "":
		t, err := language.Load(what.Trial, language.Options{})
		if err != nil {
			return nil, err
		}
		if err := new(remote).mayRun(t); err != nil {
			return nil, err
		}
		return a.start(t, run.Options{Live: true})
	}
	board, t, err := demoTrial(trials.DemoName, trials.Demo, nil)
	if err != nil {
		return nil, err
	}
	l, err := a.start(t, run.Options{Live: true})
	if err != nil {
		board.stop()
		return nil, err
	}
	l.board = board
	return l, nil
}

// Export implements tui.Shell: it writes what a view shows into the current
// folder, as drawings and as tables. What is there stays.
func (a *app) Export(x tui.Exported) (string, error) {
	views := map[string][]string{"watch": {"tide"}, "fan-out": {"fan-out", "percentiles", "rooms"},
		"ledger": {"ledger"}, "lanes": {"lanes"}, "routes": {"routes"},
		"recovery": {"recovery"}, "pulse": {"pulse"}, "findings": {"findings"}}[x.View]
	if x.View == "watch" && len(x.Run.Trial.Feeds) > 0 {
		views = append(views, "feeds")
	}
	name := "run of " + x.Run.Started.Local().Format("2006-01-02 15:04:05")
	var written []string
	for _, v := range views {
		for _, format := range []string{"svg", "pdf", "csv"} {
			r := export.Request{Run: x.Run, Name: name, Version: Version, View: v, From: x.Window.From, To: x.Window.To,
				Clients: x.Clients, Focus: x.Focus}
			path := export.FreeName(x.Run.Started.Local().Format("20060102-150405"), v, x.Window.From, x.Window.To,
				format)
			if err := writeExport(path, r, format); err != nil {
				return "", err
			}
			written = append(written, path)
		}
	}
	return strings.Join(written, ", "), nil
}

// writeExport writes one view into a file, or to the standard output for "-". What was
// begun of a file that cannot be finished is removed.
func writeExport(path string, r export.Request, format string) error {
	if path == "-" {
		return export.Write(os.Stdout, r, format)
	}
	f, err := machine.CreatePrivate(path)
	if err != nil {
		return err
	}
	if err := export.Write(f, r, format); err != nil {
		f.Close()
		os.Remove(path)
		return err
	}
	return f.Close()
}
