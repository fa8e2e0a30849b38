package main

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/signal"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/capture/conform"
	"tidepull/internal/capture/probe"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/secure"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
)

type conformCommand struct {
	URL         string        `arg:"" help:"The server: a ws:// or wss:// address."`
	Origin      string        `help:"The Origin field, as a browser sends it."`
	Header      []string      `sep:"none" placeholder:"NAME: VALUE" help:"${header}"`
	Subprotocol []string      `help:"A subprotocol to offer. May be given more than once."`
	Within      time.Duration `default:"2s" help:"How long the server may take to do something about a case."`
	JSON        bool          `name:"json" help:"Print each case as one line of JSON."`
	connecting
	trust
	remote
}

// Run tries all cases against the server and prints what it did.
func (c *conformCommand) Run() error {
	t, err := c.target()
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	began := time.Now()
	var all []conform.Outcome
	err = conform.Run(ctx, t, func(o conform.Outcome) {
		all = append(all, o)
		c.print(o)
	})
	var down *conform.Down
	switch {
	case errors.As(err, &down):
		return &exitError{exitBroken, err.Error()}
	case ctx.Err() != nil:
		return &exitError{exitNotProven, "stopped before all cases were tried"}
	case err != nil:
		return &exitError{exitUnreachable, "no connection: " + err.Error()}
	}
	not, should, skipped := 0, 0, 0
	for _, o := range all {
		switch {
		case o.Skipped != "":
			skipped++
		case !o.Done && o.May == "":
			not++
		case o.Should != "":
			should++
		}
	}
	if !c.JSON {
		fmt.Printf("\n%d cases in %s: %d done as RFC 6455 demands, of which %d should say why; %d not done, %d not "+
			"tried\n",
			len(all), units.Round(time.Since(began)), len(all)-not-skipped, should, not, skipped)
	}
	if not > 0 {
		return &exitError{exitBroken, ""}
	}
	return nil
}

// print prints what came of a case.
func (c *conformCommand) print(o conform.Outcome) {
	section := o.Section
	if !strings.HasPrefix(section, "RFC") {
		section = "RFC 6455 " + section
	}
	if c.JSON {
		b, _ := json.Marshal(map[string]any{"case": o.Name, "section": section, "demanded": o.Demand.Words(),
			"did": o.Did, "done": o.Done, "should": o.Should, "skipped": o.Skipped, "may": o.May}) // plain values
		fmt.Println(string(b))
		return
	}
	mark := "done    "
	switch {
	case o.Skipped != "":
		mark = "-       "
	case !o.Done && o.May == "":
		mark = "NOT DONE"
	case o.Should != "" || !o.Done:
		mark = "partly  "
	}
	line := fmt.Sprintf("%s  %-16s  %-56s  %-28s  %s", mark, section, o.Name, o.Demand.Words(), o.Did+o.Skipped)
	if o.Should != "" {
		line += "; it should " + o.Should
	}
	if o.May != "" {
		line += " (" + o.May + ")"
	}
	fmt.Println(line)
}

// target puts together where to connect to and as whom.
func (c *conformCommand) target() (t conform.Target, err error) {
	u, err := probe.ParseURL(c.URL)
	if err != nil {
		return t, err
	}
	a, err := wire.ParseAddress(u.String())
	if err != nil {
		return t, err
	}
	if u.Scheme != "ws" && u.Scheme != "wss" {
		return t, fmt.Errorf("%q: what is tried is RFC 6455, over ws:// or wss://", c.URL)
	}
	at, err := c.where()
	if err != nil {
		return t, err
	}
	to := u.String()
	if at.Unix == "" && at.Addr.IsValid() {
		to = "tcp://" + at.Addr.String()
	}
	if at.Unix == "" {
		if err := c.mayReach("conform", to, "with what breaks its protocol"); err != nil {
			return t, err
		}
	}
	t = conform.Target{Host: u.Host, Path: a.Path, Within: c.Within, Protocols: c.Subprotocol}
	if c.Origin != "" {
		t.Fields = append(t.Fields, http1.Field{Name: "Origin", Value: c.Origin})
	}
	more, err := headerFields(c.Header)
	if err != nil {
		return t, err
	}
	t.Fields = append(t.Fields, more...)
	o, err := c.trust.options()
	if err != nil {
		return t, err
	}
	cfg, err := secure.ClientConfig(&o)
	if err != nil {
		return t, err
	}
	if cfg.ServerName == "" {
		cfg.ServerName = a.Name
	}
	t.Dial = func(ctx context.Context) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		conn, err := c.dialAt(ctx, at, a)
		if err != nil || !a.Secure() {
			return conn, err
		}
		secured := tls.Client(conn, cfg)
		if err := secured.HandshakeContext(ctx); err != nil {
			conn.Close()
			return nil, fmt.Errorf("TLS: %w", err)
		}
		return secured, nil
	}
	return t, nil
}

// dialAt connects to an endpoint, or to where an address leads if there is none, and if that may be
// reached: it may lead elsewhere by now.
func (c *conformCommand) dialAt(ctx context.Context, at wire.Endpoint, a wire.Address) (net.Conn, error) {
	var d net.Dialer
	switch {
	case at.Unix != "":
		return d.DialContext(ctx, "unix", at.Unix)
	case at.Addr.IsValid():
		return d.DialContext(ctx, "tcp", at.Addr.String())
	}
	addrs, err := c.leadsTo(ctx, a)
	if err != nil {
		return nil, err
	}
	conn, _, err := poll.DialAny(ctx, addrs, a.Port)
	return conn, err
}
