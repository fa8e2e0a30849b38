package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tidepull/internal/engine/clocks"
	"tidepull/internal/engine/workers"
	"tidepull/internal/run"
)

// meeting are the flags of commands that meet others at a NATS server.
type meeting struct {
	TokenFile string `placeholder:"FILE" help:"${token_file}"`
	Creds     string `placeholder:"FILE" help:"${nats_creds}"`
	CA        string `name:"ca" placeholder:"FILE" help:"${nats_ca}"`
	Cert      string `placeholder:"FILE" help:"${nats_cert}"`
	Key       string `placeholder:"FILE" help:"The key of --cert."`
}

// at gives the address of the NATS server, with what opens it.
func (m *meeting) at(url string) (a workers.Address, err error) {
	a = workers.Address{URL: url, Creds: m.Creds, CA: m.CA, Cert: m.Cert, Key: m.Key}
	if (m.Cert == "") != (m.Key == "") {
		return a, errors.New("--cert and --key go together")
	}
	if m.TokenFile != "" {
		if a.Token, err = workers.ReadToken(m.TokenFile); err != nil {
			return a, err
		}
	}
	if a.Token == "" && a.Creds == "" && a.Cert == "" {
		return a, fmt.Errorf("whoever reaches %s could use this machine: give --token-file, --creds, or --cert and "+
			"--key", url)
	}
	return a, a.Check()
}

type joinCommand struct {
	URL string `arg:"" name:"nats-url" help:"The NATS server where runs meet: nats://HOST:PORT, or tls://HOST:PORT."`
	meeting
	Agree   []string `required:"" placeholder:"HOST[:PORT],..." help:"${agree}"`
	Clients int      `placeholder:"N" help:"Carry so many clients at the most; by default what the limits allow."`
	Name    string   `placeholder:"NAME" help:"What this machine is called in reports; by default its host name."`
}

// Run offers this machine to who leads runs, until it is stopped.
func (c *joinCommand) Run(a *app) error {
	at, err := c.at(c.URL)
	if err != nil {
		return err
	}
	if c.Clients < 0 {
		return fmt.Errorf("--clients is %d; it may be 1 or more", c.Clients)
	}
	skew, err := skewOf(os.Getenv(skewVariable))
	if err != nil {
		return err
	}
	if c.Name == "" {
		c.Name = run.HostName()
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	fmt.Printf("%s agrees to load %s; ctrl+c ends it\n", c.Name, strings.Join(c.Agree, ", "))
	return run.Join(ctx, run.Joining{Address: at, Name: c.Name, Version: Version, Clients: c.Clients, Agrees: c.Agree,
		Skew: skew, Log: a.log, Tell: func(text string) { fmt.Println(time.Now().Format(time.TimeOnly), text) }})
}

// skewVariable is the environment variable by which tests make a machine's clock wrong: "3.5s 120" is ahead by 3.5 s
// and gains 120 microseconds a second.
const skewVariable = "TIDEPULL_TEST_CLOCK"

func skewOf(text string) (s clocks.Skew, err error) {
	if text == "" {
		return s, nil
	}
	shift, ppm, _ := strings.Cut(text, " ")
	if s.Shift, err = time.ParseDuration(shift); err == nil && ppm != "" {
		s.PPM, err = strconv.ParseFloat(ppm, 64)
	}
	if err != nil {
		return s, fmt.Errorf("%s: %w", skewVariable, err)
	}
	return s, nil
}

// overing are the flags of commands whose clients may be on other machines.
type overing struct {
	Over     string `placeholder:"NATS-URL" help:"${over}"`
	Machines int    `placeholder:"N" help:"${machines}"`
	meeting
}

// over says over which machines; nil: this one.
func (o *overing) over() (*run.Over, error) {
	if o.Over == "" {
		if o.Machines != 0 || o.meeting != (meeting{}) {
			return nil, errors.New("--machines, --token-file, --creds, --ca, --cert and --key go with --over")
		}
		return nil, nil
	}
	if o.Machines < 0 || o.Machines > run.MostWorkers {
		return nil, fmt.Errorf("--machines is %d; it may be 1 to %d", o.Machines, run.MostWorkers)
	}
	at, err := o.at(o.Over)
	return &run.Over{Address: at, Machines: o.Machines, Version: Version}, err
}
