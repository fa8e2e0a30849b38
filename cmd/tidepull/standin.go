package main

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/signal"
	"syscall"
	"time"

	"tidepull/internal/capture/probe"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/secure"
	"tidepull/internal/standin"
	"tidepull/internal/wire"
)

type standinCommand struct {
	Listen       string        `default:"127.0.0.1:7411" help:"The address to serve at; port 0 picks a free one."`
	PingEvery    time.Duration `default:"5s" help:"How long a client may be silent before it is pinged."`
	PongWithin   time.Duration `default:"10s" help:"How long after a ping a silent client is evicted."`
	History      int           `default:"20" help:"How many notices of a room are given to who enters; -1 for none."`
	Records      int           `default:"500000" help:"${records}"`
	Login        bool          `help:"Let nobody in without a cookie or a token."`
	Origins      []string      `placeholder:"ORIGIN" help:"Let browsers in from these origins alone."`
	Notices      bool          `help:"Tell the members of a room who enters and who leaves."`
	LeaveOut     bool          `help:"Do not give a notice to its own sender."`
	Share        bool          `help:"Let several connections have one name."`
	MaxText      int           `default:"1048576" help:"How many bytes a text may have."`
	Resume       time.Duration `placeholder:"DURATION" help:"How long a client may come back by its token."`
	Gauge        time.Duration `default:"1s" help:"How often rooms called gauge-... get a reading."`
	StoreIn      string        `placeholder:"FILE" help:"Keep notices in this SQLite file, and not in memory alone."`
	Shape        string        `enum:",array,envelope,string,digits,text" default:"" help:"${shape}"`
	Pack         string        `enum:",lines,list,records,sized" default:"" help:"${pack}"`
	Prefix       string        `enum:",1,2,4,2le,4le,varint" default:"" placeholder:"SIZE" help:"${standin_prefix}"`
	EndedBy      string        `placeholder:"TEXT" help:"${ended_by}"`
	EndWithInput bool          `help:"End when the standard input does."`
	Deflate      bool          `help:"Take permessage-deflate if a client offers it."`
	TLS          bool          `name:"tls" help:"${tls_standin}"`
	AuthorityOut string        `placeholder:"FILE" help:"${authority_out}"`
	Portable     bool          `help:"Use the driver for systems without epoll."`
	wrongs
	remote
}

// Run serves until it is interrupted, or until its input ends: so a stand-in does not
// outlive the program that started it.
func (c *standinCommand) Run(a *app) error {
	if err := c.mayListen("--listen", c.Listen); err != nil {
		return err
	}
	at, err := netip.ParseAddrPort(c.Listen)
	if err != nil {
		return fmt.Errorf("--listen %q is no ADDRESS:PORT such as 127.0.0.1:7411", c.Listen)
	}
	switches, err := c.switches()
	if err != nil {
		return err
	}
	ends, err := probe.Unescape(c.EndedBy)
	if err != nil {
		return fmt.Errorf("--ended-by %q: %w", c.EndedBy, err)
	}
	machine.RaiseFileLimit()
	certificate, err := c.certificate()
	if err != nil {
		return err
	}
	s, err := standin.Start(standin.Config{Listen: at, TLS: certificate, Deflate: c.Deflate, PingEvery: c.PingEvery,
		PongWithin: c.PongWithin, History: c.History, Records: c.Records, Portable: c.Portable, Log: a.log,
		Login: c.Login, Origins: c.Origins, Notices: c.Notices, LeaveOut: c.LeaveOut, Share: c.Share,
		MaxText: c.MaxText, Gauge: c.Gauge, Resume: c.Resume, Store: c.StoreIn, Switches: switches,
		Manners: standin.Manners{Shape: c.Shape, Pack: c.Pack},
		Framing: wire.Framing{Ends: ends, Prefix: wire.PrefixNamed(c.Prefix)}})
	if err != nil {
		return err
	}
	fmt.Printf("serving %s\n", s.URL())
	ended := make(chan struct{})
	if c.EndWithInput {
		go func() {
			io.Copy(io.Discard, os.Stdin)
			close(ended)
		}()
	}
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	select {
	case <-ended:
	case <-signals:
	}
	return s.Stop()
}

// certificate makes what the stand-in speaks TLS with, and writes whom to trust for it;
// nil if it is not to.
func (c *standinCommand) certificate() (*tls.Config, error) {
	if !c.TLS {
		if c.AuthorityOut != "" {
			return nil, errors.New("--authority-out goes with --tls")
		}
		return nil, nil
	}
	a, err := secure.NewAuthority()
	if err != nil {
		return nil, err
	}
	own, err := a.Issue("localhost", "127.0.0.1", "::1")
	if err != nil {
		return nil, err
	}
	if c.AuthorityOut != "" {
		if err := os.WriteFile(c.AuthorityOut, a.PEM, 0o666); err != nil {
			return nil, err
		}
	}
	return &tls.Config{Certificates: []tls.Certificate{own}}, nil
}
