package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"tidepull/internal/engine"
	"tidepull/internal/engine/workers"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// workCommand is a worker of another process's run, which starts it (run.startFleet).
type workCommand struct {
	Number int      `arg:"" help:"Which of the workers it is, from 0."`
	RunID  string   `name:"run" required:"" help:"Which run it is of."`
	Follow bool     `help:"Follow the courses of the lead's clock, which come as its input."`
	Agree  []string `help:"The servers that this machine agreed to load."`
}

// Run serves the worker's clients. It ends with its input, which ends with who started it.
func (c *workCommand) Run() error {
	meets := os.Getenv(run.MeetVariable)
	if meets == "" {
		return fmt.Errorf("work is what a run with several processes starts by itself; %s is not set", run.MeetVariable)
	}
	os.Unsetenv(run.MeetVariable) // it is not for what this process may start
	var at workers.Address
	if err := json.Unmarshal([]byte(meets), &at); err != nil {
		return fmt.Errorf("%s: %w", run.MeetVariable, err)
	}
	signal.Ignore(os.Interrupt, syscall.SIGHUP)
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	end := func() { cancel(errAlone) }
	own := &run.Own{Agrees: c.Agree}
	if c.Follow {
		r, w := io.Pipe()
		own.Course = r
		go passOn(w, end)
		if err := own.WaitForCourse(); err != nil {
			return err
		}
	} else {
		go passOn(nil, end)
	}
	err := run.Work(ctx, &at, c.RunID, c.Number, own, func(s *trial.Source) (*trial.Trial, error) {
		t, err := language.Again(s)
		if err == nil {
			debug.SetMemoryLimit(memoryFor(t.Clients()))
		}
		return t, err
	})
	if errors.Is(err, context.Canceled) || errors.Is(err, errAlone) || errors.Is(err, engine.ErrNotReached) {
		return &exitError{status: exitWrong}
	}
	return err
}

// errAlone is why a worker ends whose input has.
var errAlone = errors.New("who started it is gone, or had it end")

// passOn passes the process's input on, if somebody takes it, and calls end when it ends.
func passOn(to *io.PipeWriter, end func()) {
	if to == nil {
		_, _ = io.Copy(io.Discard, os.Stdin) // its end is what is waited for
	} else {
		_, err := io.Copy(to, os.Stdin)
		to.CloseWithError(err)
	}
	end()
}
