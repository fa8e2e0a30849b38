package main

import (
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/capture/recording"
	"tidepull/internal/capture/relay"
)

type recordCommand struct {
	Listen string `default:"127.0.0.1:7412" help:"The address that the client is pointed at; port 0 picks a free one."`
	To     string `required:"" placeholder:"URL" help:"${record_to}"`
	Out    string `short:"o" default:"recording.jsonl" placeholder:"FILE" help:"${out}"`
	withCredentials
	trust
	remote
}

// withCredentials is the flag of commands that make recordings.
type withCredentials struct {
	WithCredentials bool `help:"${with_credentials}"`
}

// Run relays until it is interrupted, and then says what it has kept and what passing
// it on took: whoever measures through a relay wants to know.
func (c *recordCommand) Run(a *app) error {
	if err := c.mayReach("record", c.To, "with whatever its clients send"); err != nil {
		return err
	}
	if err := c.mayListen("--listen", c.Listen); err != nil {
		return err
	}
	out, notes, done, err := outputTo(c.Out)
	if err != nil {
		return err
	}
	w := recording.NewWriter(out, recording.Recording{Made: time.Now().Format(time.RFC3339), By: "record",
		Target: c.To})
	counts := map[string]int{}
	var hide recording.Concealer
	trusted, err := c.trust.options()
	if err != nil {
		done()
		return err
	}
	r, err := relay.Start(relay.Options{Listen: c.Listen, To: c.To, TLS: trusted, Log: a.log},
		func(e recording.Entry) error {
			counts[e.What]++
			if !c.WithCredentials {
				e = hide.Conceal(e)
			}
			return w.Write(e)
		})
	if err != nil {
		done()
		return err
	}
	fmt.Fprintf(notes, "recording at %v what goes to %s; ctrl-c ends it\n", r.Addr, c.To)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	<-signals
	if err := r.Stop(); err != nil {
		done()
		return fmt.Errorf("writing %s: %w", c.Out, err)
	}
	fmt.Fprintf(notes, "%d connections, %d messages, %d events, %d requests and answers, %d pieces of other data: %s\n",
		counts[recording.Open], counts[recording.Message], counts[recording.Event], counts[recording.Head],
		counts[recording.Data], c.Out)
	own := r.Own()
	fmt.Fprintf(notes, "passing on took the relay %s at the median, p99 %s, at most %s (%s pieces)",
		units.Duration(own.P50), units.Duration(own.P99), units.Duration(own.Max), units.Count(int64(own.Pieces)))
	if own.Held > 0 {
		fmt.Fprintf(notes, "; %d times one side was not read for a while, as the other one or the recording did "+
			"not keep up", own.Held)
	}
	fmt.Fprintln(notes)
	return done()
}

// outputTo opens a file to write to, which must not be there yet, and where
// notes go meanwhile; - is the standard output.
func outputTo(path string) (out, notes *os.File, done func() error, err error) {
	if path == "-" {
		return os.Stdout, os.Stderr, func() error { return nil }, nil
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, nil, nil, err
	}
	return f, os.Stdout, f.Close, nil
}

type importCommand struct {
	File string `arg:"" help:"A HAR file, as browsers export it."`
	Out  string `short:"o" default:"recording.jsonl" placeholder:"FILE" help:"${out}"`
	withCredentials
}

// Run makes a recording of a browser's HAR file.
func (c *importCommand) Run() error {
	f, err := os.Open(c.File)
	if err != nil {
		return err
	}
	defer f.Close()
	rec, err := recording.ImportHAR(f)
	if err != nil {
		return err
	}
	if !c.WithCredentials {
		rec = rec.Concealed()
	}
	out, notes, done, err := outputTo(c.Out)
	if err != nil {
		return err
	}
	if err := rec.Write(out); err != nil {
		done()
		return fmt.Errorf("writing %s: %w", c.Out, err)
	}
	fmt.Fprintf(notes, "%d entries of %s: %s\n", len(rec.Entries), rec.Target, c.Out)
	return done()
}
