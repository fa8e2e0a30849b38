package run

import (
	"fmt"

	"tidepull/internal/engine"
	"tidepull/internal/engine/impair"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/pressure"
	"tidepull/internal/engine/secure"
	"tidepull/internal/engine/traffic"
	"tidepull/internal/engine/tunnel"
	"tidepull/internal/trial"
)

// layers are the drivers of some shares, and what is between them and the sockets.
type layers struct {
	drivers []poll.Driver
	paths   []*impair.Driver
	kernels []*traffic.Driver
}

// stack makes the drivers of n shares, of which one is the first of the run's.
func stack(t *trial.Trial, o Options, control *traffic.Control, n, first int) (*layers, error) {
	newDriver := poll.New
	if o.Portable {
		newDriver = poll.NewPortable
	}
	var security *secure.Config
	if t.Target.Secure() {
		client, err := secure.ClientConfig(&t.Target.TLS)
		if err != nil {
			return nil, fmt.Errorf("the target's TLS: %w", err)
		}
		security = &secure.Config{Client: client, Resume: t.Target.TLS.Resume}
	}
	l := &layers{}
	for range n {
		sockets, err := newDriver()
		if err != nil {
			l.close()
			return nil, fmt.Errorf("making a driver: %w", err)
		}
		if control != nil {
			l.kernels = append(l.kernels, traffic.NewDriver(sockets, control, len(l.drivers)))
			sockets = l.kernels[len(l.kernels)-1]
		}
		wire := poll.Wire(sockets)
		if t.HasPath() || o.Live {
			l.paths = append(l.paths, impair.New(wire, t.Seed+uint64(first+len(l.drivers))))
			wire = l.paths[len(l.paths)-1]
		}
		top := poll.Driver(wire)
		if t.Target.Proxy != "" {
			top = tunnel.New(wire)
		}
		if security != nil {
			top = secure.New(top, *security)
		}
		l.drivers = append(l.drivers, top)
	}
	return l, nil
}

func (l *layers) close() {
	for _, d := range l.drivers {
		d.Close()
	}
}

// engine makes an engine whose shares use the layers.
func (l *layers) engine(cfg engine.Config, to *places, watcher *pressure.Watcher) *engine.Engine {
	cfg.Drivers, cfg.Paths, cfg.Kernels = l.drivers, l.paths, l.kernels
	cfg.Pressure, cfg.OnThread = watcher.Between, watcher.Loop
	cfg.Places, cfg.Web, cfg.WebHost, cfg.Find = to.routes, to.web, to.webHost, to.whereIs
	return engine.New(cfg)
}
