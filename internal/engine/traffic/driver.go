package traffic

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// A Driver is a poll.Driver with lines that the system's traffic control impairs. Like all drivers it
// has one owner.
type Driver struct {
	poll.Sockets
	// For gives what the system is to do to a line at the moment, of what it Does; nil: nothing. It
	// must be set before the first line is dialled.
	For     func(id int32) *trial.Effects
	control *Control
	share   int
	told    map[int32]bool // lines of which the system was told
	h       poll.Handler
}

// NewDriver puts the system's traffic control under the lines of a driver, which the new one owns,
// of one of the run's shares.
func NewDriver(d poll.Sockets, c *Control, share int) *Driver {
	return &Driver{Sockets: d, control: c, share: share, told: map[int32]bool{}}
}

// Does reports whether the system can do what a fault does that is ByKernel: to freeze and to bound
// bandwidth it needs no more than every kernel has.
func (d *Driver) Does(e *trial.Effects) bool {
	return d.control.netem || !needsNetem(&e.Up) && !needsNetem(&e.Down)
}

// Changed has the system do to a line what For says now. The packets that open a connection may be
// on their way before: its port is not known sooner.
func (d *Driver) Changed(id int32) {
	e := d.For(id)
	if e == nil && !d.told[id] {
		return
	}
	if d.told[id] = e != nil; e == nil {
		delete(d.told, id)
		e = &trial.Effects{}
	}
	d.control.Set(uint64(d.share)<<32|uint64(uint32(id)), d.Local(id).Port(), e.Up, e.Down)
}

// ended tells the system that a line's port may be another's from now on.
func (d *Driver) ended(id int32) {
	if d.told[id] {
		delete(d.told, id)
		d.control.Set(uint64(d.share)<<32|uint64(uint32(id)), 0, trial.Way{}, trial.Way{})
	}
}

// Dial implements poll.Driver.
func (d *Driver) Dial(id int32, to wire.Endpoint) error {
	err := d.Sockets.Dial(id, to)
	if err == nil {
		d.Changed(id)
	}
	return err
}

// Hangup implements poll.Driver.
func (d *Driver) Hangup(id int32) {
	d.ended(id)
	d.Sockets.Hangup(id)
}

// Abort implements poll.Driver.
func (d *Driver) Abort(id int32) {
	d.ended(id)
	d.Sockets.Abort(id)
}

// CloseWhenFlushed implements poll.Driver.
func (d *Driver) CloseWhenFlushed(id int32) {
	d.ended(id)
	d.Sockets.CloseWhenFlushed(id)
}

// Wait implements poll.Driver.
func (d *Driver) Wait(until mono.Time, h poll.Handler) error {
	d.h = h
	return d.Sockets.Wait(until, d)
}

// Accepted implements poll.Handler.
func (d *Driver) Accepted(id int32) { d.h.Accepted(id) }

// Opened implements poll.Handler.
func (d *Driver) Opened(id int32) { d.h.Opened(id) }

// Data implements poll.Handler.
func (d *Driver) Data(id int32, b []byte, came mono.Span) { d.h.Data(id, b, came) }

// Broke implements poll.Handler.
func (d *Driver) Broke(id int32, err error) {
	d.ended(id)
	d.h.Broke(id, err)
}
