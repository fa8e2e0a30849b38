package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// workCommand is a worker of another process's run, which starts it (run.startFleet).
type workCommand struct {
	Number int    `arg:"" help:"Which of the workers it is, from 0."`
	Lead   string `required:"" placeholder:"URL" help:"Where the lead's server is."`
}

// Run serves the worker's clients. It ends with its input, which ends with the lead.
func (c *workCommand) Run() error {
	token := os.Getenv(run.TokenVariable)
	if token == "" {
		return fmt.Errorf("work is what a run with several processes starts by itself; %s is not set",
			run.TokenVariable)
	}
	os.Unsetenv(run.TokenVariable) // it is not for what this process may start
	signal.Ignore(os.Interrupt, syscall.SIGHUP)
	ctx, end := context.WithCancel(context.Background())
	defer end()
	go func() {
		_, _ = io.Copy(io.Discard, os.Stdin) // its end is what is waited for
		end()
	}()
	err := run.Work(ctx, c.Lead, token, c.Number, func(s *trial.Source) (*trial.Trial, error) {
		t, err := language.Again(s)
		if err == nil {
			debug.SetMemoryLimit(memoryFor(t.Clients()))
		}
		return t, err
	})
	if errors.Is(err, context.Canceled) {
		return &exitError{status: exitWrong}
	}
	return err
}
