// Package conform sends a server what breaks RFC 6455, and what does not, one case after the
// other, each over a connection of its own, and tells what the standard demands and what the
// server did.
package conform

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"slices"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A Target is the server, and how one comes in.
type Target struct {
	Host, Path string // of the request
	Fields     []http1.Field
	Protocols  []string                                // that are offered; the server has to choose one of them
	Dial       func(context.Context) (net.Conn, error) // connects, with TLS if the server wants that
	Within     time.Duration                           // how long a server may take to do something
}

// Demand is what a case demands of the server.
type Demand uint8

// The demands.
const (
	MustRefuse Demand = iota // the handshake: any answer but 101, or none
	MustAgree                // 101
	MustFail                 // the connection ends; a close frame should say why (RFC 6455 7.1.7)
	MustBear                 // the connection goes on: a ping is answered
	MustAnswer               // a pong with the ping's content
	MustClose                // the close is answered with one, and the connection ends (RFC 6455 5.5.1)
)

// Words say what is demanded.
func (d Demand) Words() string {
	return [...]string{"refuse the handshake", "agree", "end the connection", "go on", "answer with a pong",
		"answer the close"}[d]
}

// A Case is one thing that is sent.
type Case struct {
	Name    string
	Section string // of RFC 6455, if no other is named
	Demand  Demand
	Code    uint16 // MustFail: which close code says why; 0: none is named
	// May is said beside a case that the standard leaves open to some degree.
	May string
	// plain, if it is not "", is what a case says, or something like it, for one plain frame: a server
	// that does not go on after that does not know the words, and what they came in is not to blame.
	plain string
	send  func(k *knock) []byte
}

// A knock is what a case's bytes are made of.
type knock struct {
	target  *Target
	key     string
	request []byte
}

// An Outcome is what the server did.
type Outcome struct {
	Case
	Did     string // in words
	Done    bool   // as it is demanded
	Should  string // what it should have done besides; "": nothing
	Skipped string // why the case could not be tried; "": it was
}

// Run tries all cases, each over a connection of its own, and calls tell with what came of
// each. The error says why there is no connection at all, or that the server does not let
// anybody in any more.
func Run(ctx context.Context, t Target, tell func(Outcome)) error {
	if err := alive(ctx, &t); err != nil {
		return err
	}
	for i, c := range Cases {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		o, reached := try(ctx, &t, c)
		if !reached && i > 0 {
			if err := alive(ctx, &t); err != nil {
				return &Down{Cases[i-1].Name, len(Cases) - i, err}
			}
		}
		tell(o)
	}
	if err := alive(ctx, &t); err != nil {
		return &Down{Cases[len(Cases)-1].Name, 0, err}
	}
	return nil
}

// A Down is a server that lets nobody in any more.
type Down struct {
	After string // the case that was tried last
	Left  int    // cases that were not tried, as there was nobody
	Err   error
}

func (e *Down) Error() string {
	return fmt.Sprintf("the server lets nobody in any more, since the case '%s': %v; %d cases were not tried", e.After,
		e.Err, e.Left)
}

// alive reports whether the server lets a decent client in.
func alive(ctx context.Context, t *Target) error {
	c, err := open(ctx, t, nil)
	if err != nil {
		return err
	}
	defer c.conn.Close()
	if head := c.head; head == nil {
		return errors.New("the server does not answer an opening handshake")
	} else if err := ws.CheckResponse(head, c.knock.key, ws.Offer{Protocols: t.Protocols}); err != nil {
		return err
	}
	return nil
}

// knowsWords reports whether a server goes on after a text in one plain frame.
func knowsWords(ctx context.Context, t *Target, plain string) bool {
	c, err := open(ctx, t, nil)
	if err != nil {
		return false
	}
	defer c.conn.Close()
	if c.head == nil || c.head.Status != 101 {
		return false
	}
	c.conn.SetDeadline(time.Now().Add(t.Within))
	c.conn.Write(text(plain)) // that it cannot be written shows when it is read
	o := Outcome{Case: Case{Demand: MustBear}}
	o.judgeFrames(c, t.Within)
	return o.Done
}

// A talk is one connection.
type talk struct {
	conn  net.Conn
	knock *knock
	head  *http1.Head // of the answer; nil: there was none
	held  []byte      // what came behind it
	gone  bool        // the server has ended the connection
}

// open connects and sends a handshake: a decent one, or what made gives.
func open(ctx context.Context, t *Target, made func(k *knock) []byte) (*talk, error) {
	conn, err := t.Dial(ctx)
	if err != nil {
		return nil, err
	}
	var nonce [16]byte
	rand.Read(nonce[:]) // never fails (crypto/rand)
	k := &knock{target: t, key: ws.KeyFor(nonce)}
	k.request = k.decent()
	if made != nil {
		k.request = made(k)
	}
	c := &talk{conn: conn, knock: k}
	conn.SetDeadline(time.Now().Add(t.Within))
	if _, err := conn.Write(k.request); err == nil {
		c.readHead()
	}
	return c, nil
}

// readHead reads the answer's head, if there is one.
func (c *talk) readHead() {
	for {
		if h, n, err := http1.ConsumeResponse(c.held); err != nil || n > 0 {
			if err == nil {
				c.head, c.held = &h, c.held[n:]
			}
			return
		}
		if !c.more() {
			return
		}
	}
}

// more reads on; false if nothing came.
func (c *talk) more() bool {
	var buf [16 << 10]byte
	n, err := c.conn.Read(buf[:])
	c.held = append(c.held, buf[:n]...)
	var timeout net.Error
	if err != nil && !(errors.As(err, &timeout) && timeout.Timeout()) {
		c.gone = true
	}
	return n > 0
}

// try tries one case; reached says that there was anybody: a
// connection, and for what is sent over an open one an answer.
func try(ctx context.Context, t *Target, c Case) (o Outcome, reached bool) {
	o.Case = c
	handshake := c.Demand == MustRefuse || c.Demand == MustAgree
	var made func(*knock) []byte
	if handshake {
		made = c.send
	}
	needsDeflate := !handshake && c.Section == deflate
	if needsDeflate {
		made = func(k *knock) []byte {
			return k.decent(http1.Field{Name: "Sec-WebSocket-Extensions", Value: "permessage-deflate"})
		}
	}
	talk, err := open(ctx, t, made)
	if err != nil {
		o.Did = "no connection: " + plain.Text(err.Error(), 100)
		return o, false
	}
	defer talk.conn.Close()
	if handshake {
		if o.judgeHandshake(talk, t); !o.Done && c.Name == foreignProtocol && t.Protocols != nil {
			o.Did, o.Skipped = "", "the server wants a subprotocol of its own"
		}
		return o, true
	}
	if talk.head == nil || talk.head.Status != 101 {
		o.Skipped = "the server did not let it in"
		return o, talk.head != nil
	}
	if needsDeflate && talk.head.Get("Sec-WebSocket-Extensions") == "" {
		o.Skipped = "the server does not agree to compression"
		return o, true
	}
	talk.conn.SetDeadline(time.Now().Add(t.Within))
	talk.conn.Write(c.send(talk.knock)) // that it cannot be written shows when it is read
	o.judgeFrames(talk, t.Within)
	if !o.Done && c.plain != "" && !knowsWords(ctx, t, c.plain) {
		o.Did, o.Should = "", ""
		o.Skipped = "the server does not go on after such words in one plain frame either"
	}
	return o, true
}

// judgeHandshake judges the answer to a handshake.
func (o *Outcome) judgeHandshake(c *talk, t *Target) {
	switch {
	case c.head == nil && c.gone:
		o.Did = "it ended the connection without an answer"
	case c.head == nil && len(c.held) > 0:
		o.Did = "it answered something that is no HTTP"
	case c.head == nil:
		o.Did = "no answer"
	default:
		o.Did = fmt.Sprintf("answered %d %s", c.head.Status, plain.Text(c.head.Reason, 40))
	}
	agreed := c.head != nil && c.head.Status == 101
	if o.Demand == MustAgree {
		if o.Done = agreed; agreed {
			if err := ws.CheckResponse(c.head, c.knock.key,
				ws.Offer{Protocols: append(slices.Clone(t.Protocols), "tide-pull.conform")}); err != nil {
				o.Done, o.Did = false, "it agreed, but: "+plain.Text(err.Error(), 100)
			}
		}
		return
	}
	o.Done = !agreed
	if o.Done && c.head == nil && !c.gone {
		o.Should = "say that it refuses"
	}
	if o.Done && o.Code != 0 && (c.head == nil || c.head.Status != int(o.Code)) {
		o.Should = fmt.Sprintf("answer %d", o.Code)
	}
}

// lastPing is what is asked at the end, to see whether anybody is there.
const lastPing = "are you there?"

// judgeFrames judges what a server did about frames.
func (o *Outcome) judgeFrames(c *talk, within time.Duration) {
	first := min(within/4, 300*time.Millisecond)
	if o.Demand == MustAnswer || o.Demand == MustClose {
		first = within
	}
	saw := c.watch(first, "")
	if o.Demand == MustBear && saw.closed == 0 && !c.gone || o.Demand == MustFail && saw.closed == 0 && !c.gone {
		c.conn.Write(ws.AppendMasked(nil, ws.OpPing, []byte(lastPing), [4]byte{1, 2, 3, 4}))
		more := c.watch(within, lastPing)
		saw.closed, saw.pongs = max(saw.closed, more.closed), append(saw.pongs, more.pongs...)
	}
	alive := bytes.Contains(bytes.Join(saw.pongs, nil), []byte(lastPing))
	switch {
	case saw.closed > 0 && saw.closed != ws.CloseNoStatus:
		o.Did = fmt.Sprintf("closed with code %d", saw.closed)
	case saw.closed > 0:
		o.Did = "closed without a code"
	case c.gone:
		o.Did = "ended the connection without a close frame"
	case o.Demand == MustAnswer && len(saw.pongs) > 0:
		o.Did = "answered with a pong"
	case alive:
		o.Did = "went on"
	default:
		o.Did = "fell silent, and kept the connection"
	}
	switch o.Demand {
	case MustFail:
		o.Done = saw.closed > 0 || c.gone
		if o.Done && o.Code != 0 && saw.closed != o.Code {
			o.Should = fmt.Sprintf("say so with code %d", o.Code)
		}
	case MustBear:
		// What an application does not understand it may end the connection for.
		o.Done = alive || saw.closed == 1003 || saw.closed == 1008 || saw.closed >= 3000
	case MustAnswer:
		if o.Done = len(saw.pongs) > 0 && string(saw.pongs[0]) == string(pingOf(o.Name)); !o.Done &&
			len(saw.pongs) > 0 {
			o.Did = "answered with another content"
		}
	case MustClose:
		if o.Done = saw.closed > 0; o.Done && !c.gone {
			o.Should = "end the TCP connection"
		}
	}
}

// seen is what came over a connection.
type seen struct {
	closed uint16 // the code of a close frame; 0: there was none
	pongs  [][]byte
}

// watch reads for a while, or until the connection ends, or a pong with some content comes.
func (c *talk) watch(within time.Duration, until string) (s seen) {
	c.conn.SetReadDeadline(time.Now().Add(within))
	var w ws.Watcher
	for {
		f, n, err := w.Next(c.held)
		if err != nil {
			return s // what it says is no frame: what it did stands before
		}
		if n == 0 {
			if c.gone || !c.more() {
				return s
			}
			continue
		}
		c.held = c.held[n:]
		switch f.Op {
		case ws.OpPong:
			s.pongs = append(s.pongs, f.Payload)
			if until == "" || string(f.Payload) == until {
				return s
			}
		case ws.OpClose:
			if s.closed = ws.CloseNoStatus; len(f.Payload) >= 2 {
				s.closed = uint16(f.Payload[0])<<8 | uint16(f.Payload[1])
			}
			for !c.gone && c.more() { // the server ends the connection first (RFC 6455 7.1.1)
			}
			return s
		}
	}
}
