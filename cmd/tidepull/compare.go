package main

import (
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"tidepull/internal/engine/machine"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/report/chart"
	"tidepull/internal/report/compare"
	"tidepull/internal/run"
	"tidepull/internal/trial/language"
)

type compareCommand struct {
	File      string            `arg:"" help:"The trial, a .trial.hcl file whose target has several routes."`
	Target    string            `placeholder:"URL" help:"Run against this address instead of the trial's."`
	Set       map[string]string `mapsep:"none" placeholder:"NAME=VALUE" help:"${set}"`
	ServerPID int               `name:"server-pid" placeholder:"PID" help:"${server_pid}"`
	Out       string            `placeholder:"DIR" help:"${compare_out}"`
	connecting
	remote
}

// Run carries the trial out over each route alone, one after the other.
func (c *compareCommand) Run(a *app) error {
	t, err := language.Load(c.File, language.Options{Target: c.Target, Set: c.Set})
	if err != nil {
		return err
	}
	if len(t.Target.Routes) < 2 {
		return fmt.Errorf("the target has one route; give it others to compare with: route \"polling\" { ... }")
	}
	if err := c.redirect(t); err != nil {
		return err
	}
	if err := c.mayRun(t); err != nil {
		return err
	}
	if c.Out != "" {
		if err := run.TryOut(c.Out); err != nil {
			return err
		}
	}
	signal.Ignore(syscall.SIGPIPE) // see carryOut
	if _, known := machine.Used(c.ServerPID); c.ServerPID != 0 && !known {
		return fmt.Errorf("--server-pid %d: there is no such process, or what it uses cannot be known", c.ServerPID)
	}
	var columns []compare.Column
	status := exitHolds
	for i := range t.Target.Routes {
		one := compare.Alone(t, i)
		route := t.Target.Routes[i]
		fmt.Fprintf(os.Stderr, "%s: %v over %s\n", time.Now().Format("15:04:05"), one.Length(), route.Name)
		before, _ := machine.Used(c.ServerPID)
		l, err := a.start(one, run.Options{})
		if err != nil {
			return fmt.Errorf("over %s: %w", route.Name, err)
		}
		stop := onSignals(l.Run, false)
		last := l.wait()
		stop()
		after, known := machine.Used(c.ServerPID)
		columns = append(columns, compare.Column{Route: route.Name, Over: logbook.Transports[route.Transport()],
			Run: last, Server: after - before, Watched: known && c.ServerPID != 0})
		switch last.Overall() {
		case run.Broken:
			status = exitBroken
		case run.NotProven:
			if status == exitHolds {
				status = exitNotProven
			}
		}
		if last.Stopped {
			break
		}
	}
	compare.Print(os.Stdout, columns)
	if err := c.write(t.Name, columns); err != nil {
		return err
	}
	if status != exitHolds {
		return &exitError{status: status}
	}
	return nil
}

// write writes the comparison as drawings and as a table, if that is asked for.
func (c *compareCommand) write(name string, columns []compare.Column) error {
	if c.Out == "" {
		return nil
	}
	if err := os.MkdirAll(c.Out, 0o700); err != nil {
		return err
	}
	for _, format := range []string{"svg", "pdf", "csv"} {
		f, err := machine.CreatePrivate(filepath.Join(c.Out, "comparison."+format))
		if err != nil {
			return err
		}
		if format == "csv" {
			err = compare.CSV(f, columns)
		} else {
			err = compare.Draw(f, name, columns, chart.Format(format))
		}
		if closing := f.Close(); err == nil {
			err = closing
		}
		if err != nil {
			return fmt.Errorf("writing comparison.%s: %w", format, err)
		}
	}
	return nil
}
