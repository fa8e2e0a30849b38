package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/alecthomas/kong"

	"tidepull/internal/base/units"
	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/replay"
	"tidepull/internal/trial/language"
	"tidepull/internal/tui"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
)

// An ordered flag remembers its place among the others: --send and --expect are
// done in the order in which they stand on the command line.
type ordered struct {
	at   int
	text string
}

var orderedFlags int

// Decode implements kong's mapping of a flag to a value.
func (o *ordered) Decode(ctx *kong.DecodeContext) error {
	orderedFlags++
	o.at = orderedFlags
	return ctx.Scan.PopValueInto("text", &o.text)
}

type probeCommand struct {
	URL         string        `arg:"" help:"${probe_url}"`
	Origin      string        `help:"The Origin field, as a browser sends it."`
	Header      []string      `sep:"none" placeholder:"NAME: VALUE" help:"${header}"`
	TokenEnv    string        `placeholder:"NAME" help:"${token_env}"`
	TokenFile   string        `placeholder:"FILE" help:"The same with a token in a file."`
	Subprotocol []string      `help:"A subprotocol to offer. May be given more than once."`
	Prefix      string        `enum:",1,2,4,2le,4le,varint" default:"" placeholder:"SIZE" help:"${prefix}"`
	Post        string        `placeholder:"PATH" help:"${probe_post}"`
	Every       time.Duration `help:"With polling+http://: ask at this pace, and not again after each answer."`
	Bytes       bool          `help:"Over TCP: no lines, but bytes as they come, and as they are given."`
	Send        []ordered     `sep:"none" placeholder:"TEXT" help:"${send}"`
	SendHex     []ordered     `sep:"none" placeholder:"DIGITS" help:"Send bytes as a binary message."`
	SendFile    []ordered     `sep:"none" placeholder:"FILE" help:"Send a file as a binary message."`
	Expect      []ordered     `sep:"none" placeholder:"PATTERN" help:"${expect}"`
	Ping        []ordered     `placeholder:"now" help:"Send a ping (--ping now) and wait for the answer."`
	Close       []ordered     `placeholder:"CODE" help:"Close with this code and wait for the end."`
	Pause       []ordered     `placeholder:"TIME" help:"Wait, and show what comes."`
	Within      time.Duration `default:"5s" help:"How long an expectation may take."`
	JSON        bool          `name:"json" help:"Print each event as one line of JSON."`
	Keep        string        `placeholder:"FILE" help:"Write what was done as a trial with one session."`
	connecting
	trust
}

// target puts together where to connect to and as whom. A token comes from the
// environment or a file, as arguments are there for all users of a machine to see.
func (c *probeCommand) target() (t probe.Target, err error) {
	t = probe.Target{URL: c.URL, Origin: c.Origin, Protocols: c.Subprotocol,
		Prefix: wire.PrefixNamed(c.Prefix), Raw: c.Bytes, Post: c.Post, Every: c.Every}
	if t.TLS, err = c.trust.options(); err != nil {
		return t, err
	}
	if t.At, err = c.where(); err != nil {
		return t, err
	}
	if c.Prefix != "" && c.Bytes {
		return t, fmt.Errorf("give one of --prefix and --bytes")
	}
	if t.Fields, err = headerFields(c.Header); err != nil {
		return t, err
	}
	token, err := c.token()
	if err != nil {
		return t, err
	}
	if token != "" {
		t.Secrets = append(t.Secrets, token)
		t.Fields = append(t.Fields, http1.Field{Name: "Authorization", Value: "Bearer " + token})
	}
	_, err = probe.ParseURL(c.URL)
	return t, err
}

// headerFields reads header fields as they are given on the command line.
func headerFields(given []string) (fields []http1.Field, err error) {
	for _, h := range given {
		name, value, ok := strings.Cut(h, ":")
		if !ok {
			return nil, fmt.Errorf("--header %q is not NAME: VALUE", h)
		}
		fields = append(fields, http1.Field{Name: strings.TrimSpace(name), Value: strings.TrimSpace(value)})
	}
	return fields, nil
}

// token reads the token that is not to stand on the command line; "" for none.
func (c *probeCommand) token() (string, error) {
	switch {
	case c.TokenEnv != "" && c.TokenFile != "":
		return "", fmt.Errorf("give one of --token-env and --token-file")
	case c.TokenEnv != "":
		if os.Getenv(c.TokenEnv) == "" {
			return "", fmt.Errorf("the environment variable %s is not set", c.TokenEnv)
		}
		return os.Getenv(c.TokenEnv), nil
	case c.TokenFile != "":
		b, err := language.ReadFile(c.TokenFile, 64<<10)
		return strings.TrimSpace(string(b)), err
	}
	return "", nil
}

// actions lists what is to be done, in the order in which its flags were given: kong
// collects each flag by itself, so each value remembers its place.
func (c *probeCommand) actions() []probe.Action {
	type placed struct {
		at int
		probe.Action
	}
	var all []placed
	for do, flags := range map[string][]ordered{"send": c.Send, "send-hex": c.SendHex, "send-file": c.SendFile,
		"expect": c.Expect, "ping": c.Ping, "close": c.Close, "pause": c.Pause} {
		for _, f := range flags {
			all = append(all, placed{f.at, probe.Action{Do: do, Text: f.text}})
		}
	}
	slices.SortFunc(all, func(a, b placed) int { return a.at - b.at })
	var actions []probe.Action
	for _, p := range all {
		actions = append(actions, p.Action)
	}
	return actions
}

// Run carries out a scripted probe, or opens the screen for one by hand if there is
// nothing to do and somebody to look.
func (c *probeCommand) Run() error {
	t, err := c.target()
	if err != nil {
		return err
	}
	actions := c.actions()
	if len(actions) == 0 && !c.JSON && c.Keep == "" && onTerminal() {
		return tui.ShowProbe(t)
	}
	if len(actions) == 0 {
		actions = []probe.Action{{Do: "pause", Text: "1s"}}
	}
	var events []probe.Event
	err = probe.Run(t, actions, c.Within, func(e probe.Event) {
		events = append(events, e)
		if c.JSON {
			b, _ := json.Marshal(e) // plain values
			fmt.Println(string(b))
		} else {
			printEvent(e)
		}
	})
	if c.Keep != "" {
		if bad := keepSession(c.Keep, t, events); bad != nil {
			return bad
		}
	}
	var unmet *probe.Unmet
	var none *probe.NoConnection
	var unsent *probe.NotOpen
	switch {
	case errors.As(err, &none):
		return &exitError{exitUnreachable, err.Error()}
	case errors.As(err, &unmet), errors.As(err, &unsent):
		return &exitError{exitBroken, err.Error()}
	}
	return err
}

// keepSession writes what was done by hand as a session of the trial language.
func keepSession(path string, t probe.Target, events []probe.Event) error {
	out, _, done, err := outputTo(path)
	if err != nil {
		return err
	}
	if _, err := out.WriteString(replay.SessionOf(probe.Recording(t, events))); err != nil {
		done()
		return err
	}
	return done()
}

// printEvent prints an event as a line, and what belongs to it indented.
func printEvent(e probe.Event) {
	head, rest := probe.Lines(&e)
	fmt.Fprintf(os.Stdout, "%10s  %s\n", "+"+units.Duration(e.Since), head)
	for _, line := range rest {
		fmt.Fprintf(os.Stdout, "%10s    %s\n", "", line)
	}
}
