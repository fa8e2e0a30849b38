// Package tunnel leads the lines of a poll.Driver through an HTTP proxy (CONNECT, RFC 9110
// 9.3.6): its user hears of a line once the proxy has connected it.
package tunnel

import (
	"fmt"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/engine/poll"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
)

// New puts tunnels over a driver, which the new one owns. Lines are led through a proxy if
// their endpoint says so.
func New(d poll.Wire) poll.Driver { return &driver{Driver: d, lines: map[int32]*line{}} }

type driver struct {
	poll.Driver
	lines map[int32]*line // those that the proxy has not connected yet
	h     poll.Handler
}

// A line is one that waits for the proxy.
type line struct {
	via    wire.Via
	answer http1.Exchange
	held   []byte // of the proxy's answer
	early  []byte // what is said before it is connected
}

// Dial implements poll.Driver.
func (d *driver) Dial(id int32, to wire.Endpoint) error {
	delete(d.lines, id)
	if to.Via.To == "" {
		return d.Driver.Dial(id, to)
	}
	// What comes behind the head of a good answer is the tunnel's (RFC 9110 9.3.6), as it is
	// after an upgrade.
	d.lines[id] = &line{via: to.Via, answer: http1.Exchange{Method: "CONNECT", Upgrade: true}}
	if err := d.Driver.Dial(id, to); err != nil {
		delete(d.lines, id)
		return fmt.Errorf("the proxy: %w", err)
	}
	return nil
}

// Write implements poll.Driver.
func (d *driver) Write(id int32, b []byte) bool {
	if l := d.lines[id]; l != nil {
		l.early = append(l.early, b...)
		return true
	}
	return d.Driver.Write(id, b)
}

// Hangup implements poll.Driver.
func (d *driver) Hangup(id int32) {
	delete(d.lines, id)
	d.Driver.Hangup(id)
}

// Abort implements poll.Driver.
func (d *driver) Abort(id int32) {
	delete(d.lines, id)
	d.Driver.Abort(id)
}

// CloseWhenFlushed implements poll.Driver.
func (d *driver) CloseWhenFlushed(id int32) {
	delete(d.lines, id)
	d.Driver.CloseWhenFlushed(id)
}

// Wait implements poll.Driver.
func (d *driver) Wait(until mono.Time, h poll.Handler) error {
	d.h = h
	return d.Driver.Wait(until, d)
}

// Accepted implements poll.Handler.
func (d *driver) Accepted(id int32) { d.h.Accepted(id) }

// Opened implements poll.Handler.
func (d *driver) Opened(id int32) {
	l := d.lines[id]
	if l == nil {
		d.h.Opened(id)
		return
	}
	fields := []http1.Field{{Name: "Host", Value: l.via.To}}
	if l.via.Authorization != "" {
		fields = append(fields, http1.Field{Name: "Proxy-Authorization", Value: l.via.Authorization})
	}
	d.Driver.Write(id, http1.AppendRequest(nil, "CONNECT", l.via.To, fields...))
}

// Data implements poll.Handler.
func (d *driver) Data(id int32, b []byte, came mono.Span) {
	l := d.lines[id]
	if l == nil {
		d.h.Data(id, b, came)
		return
	}
	l.held = append(l.held, b...)
	n, err := l.answer.TakeHead(l.held)
	l.held = l.held[n:]
	switch h := &l.answer.Head; {
	case err != nil:
		d.broke(id, fmt.Errorf("the proxy: %w", err))
	case !l.answer.Headed():
	case h.Status/100 != 2:
		d.broke(id, fmt.Errorf("the proxy answered %d %s", h.Status, plain.Text(h.Reason, 60)))
	default:
		delete(d.lines, id)
		d.h.Opened(id)
		if len(l.early) > 0 {
			d.Driver.Write(id, l.early)
		}
		if len(l.held) > 0 {
			d.h.Data(id, l.held, came)
		}
	}
}

// broke ends a line that the proxy has not connected.
func (d *driver) broke(id int32, err error) {
	d.Hangup(id)
	d.h.Broke(id, err)
}

// Broke implements poll.Handler.
func (d *driver) Broke(id int32, err error) {
	if d.lines[id] != nil {
		delete(d.lines, id)
		err = fmt.Errorf("the proxy: %w", err)
	}
	d.h.Broke(id, err)
}
