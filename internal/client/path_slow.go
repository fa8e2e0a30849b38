package client

import (
	"time"

	"tidepull/internal/measure/excuse"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
)

// readSlowly has the client read slowly from now on, as a step says.
func (p *path) readSlowly(e *Env, step *trial.Step) {
	p.own().slow = step
	e.hinder(excuse.SlowReader)
}

func (p *path) readsSlowly() bool { return p.rare != nil && p.rare.slow != nil }

// throttle makes a client that reads slowly read nothing for as long as the
// bytes that it just read should have taken.
func (p *path) throttle(e *Env, bytes int) {
	if p.readsSlowly() && !e.script.isEbbing() {
		p.rare.resume = e.now.Add(time.Duration(bytes) * time.Second / time.Duration(p.rare.slow.PerSec))
		p.io(e).Lines[transport.Main].Hold = true
	}
}

// tickReading has the client read on if it is time to.
func (p *path) tickReading(e *Env) {
	if p.rare != nil && p.rare.resume != 0 && p.rare.resume <= e.now {
		p.rare.resume = 0
		p.io(e).Lines[transport.Main].Resume = true
	}
}

// readOn ends that a client reads slowly. What is said within a margin after it
// waits behind what has piled up.
func (p *path) readOn(e *Env, margin time.Duration) {
	if !p.readsSlowly() {
		return
	}
	if p.rare.resume != 0 {
		p.io(e).Lines[transport.Main].Resume = true
	}
	p.rare.slow, p.rare.resume = nil, 0
	e.frees(excuse.SlowReader, e.now.Add(margin))
}
