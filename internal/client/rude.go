package client

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire/ws"
)

// throttle makes a client that reads slowly read nothing for as long as the
// bytes that it just read should have taken.
func (c *Client) throttle(e *Env, n int, now mono.Time) {
	if c.more == nil || c.more.perSec == 0 || c.ebbing {
		return
	}
	c.more.resume = now.Add(time.Duration(n) * time.Second / time.Duration(c.more.perSec))
	e.Hold = true
}

// readOn ends that a client reads slowly. What is said within a margin after it
// waits behind what has piled up.
func (c *Client) readOn(e *Env, now mono.Time, margin time.Duration) {
	if c.more == nil || c.more.perSec == 0 {
		return
	}
	if c.more.resume != 0 {
		e.Read = true
	}
	c.more.perSec, c.more.resume, c.more.slow = 0, 0, 0
	delete(e.slow, c.id)
	e.Ledger.Slow(c.id, false, now.Add(margin))
}

// malform sends something that breaks the protocol; the server must close the
// connection (RFC 6455 5.1, 5.2, 5.4, 5.5, 7.1.7, 8.1).
func (c *Client) malform(e *Env, wrong string) {
	var key [4]byte
	switch wrong {
	case "unmasked":
		e.Out = ws.AppendFrame(e.Out, ws.OpText, []byte("unmasked"))
	case "reserved bits":
		at := len(e.Out)
		e.Out = ws.AppendMasked(e.Out, ws.OpText, []byte("reserved"), key)
		e.Out[at] |= 0x70
	case "reserved opcode":
		e.Out = ws.AppendMasked(e.Out, 0xb, []byte("opcode"), key)
	case "bad text":
		e.Out = ws.AppendMasked(e.Out, ws.OpText, []byte("caf\xe9 \xff\xfe"), key)
	case "stray fragment":
		e.Out = ws.AppendMasked(e.Out, ws.OpContinuation, []byte("of nothing"), key)
	case "long control":
		e.Out = ws.AppendMasked(e.Out, ws.OpPing, make([]byte, 126), key)
	default: // wrong length: 5 in the form for 64 bits, whose top bit is set too
		e.Out = append(e.Out, 0x80|ws.OpText, 0x80|127, 0x80, 0, 0, 0, 0, 0, 0, 5, 0, 0, 0, 0, 'h', 'e', 'l', 'l', 'o')
	}
}
