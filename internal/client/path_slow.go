package client

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
)

// readSlowly has the client read slowly from now on, as a step says.
func (p *path) readSlowly(e *Env, step *trial.Step) {
	p.own().slow, p.own().readsOn, p.own().looks = step, 0, false
	e.hinder(excuse.SlowReader)
}

// sendsBad notes that the client sends a bad message on purpose, for which the server may end its connection.
func (p *path) sendsBad() { p.own().bad = true }

func (p *path) sentBad() bool { return p.rare != nil && p.rare.bad }

func (p *path) readsSlowly() bool { return p.rare != nil && p.rare.slow != nil && p.rare.readsOn == 0 }

// readSlowlySince reports whether the client reads slowly, or still read what had piled up at some time or after it.
func (p *path) readSlowlySince(at mono.Time) bool {
	return p.rare != nil && p.rare.slow != nil && (p.rare.readsOn == 0 || at <= p.rare.readsOn)
}

// slowStep is the step that has the client read slowly, or did until a moment ago: that its connection has ended may
// stand behind what it has not read. nil: it reads as fast as it can.
func (p *path) slowStep(e *Env) *trial.Step {
	if p.readSlowlySince(e.now) {
		return p.rare.slow
	}
	return nil
}

// looksUp has a client that reads slowly until it is closed read all that there is: the end of its connection stands
// behind what it has not read. It is false if it has done so, or reads as fast as it can.
func (p *path) looksUp(e *Env) bool {
	if !p.readsSlowly() || p.rare.looks || !e.script.isAt(trial.Slow) {
		return false
	}
	p.rare.looks, p.rare.resume = true, 0
	p.io(e).Lines[transport.Main].Resume = true
	return true
}

// throttle makes a client that reads slowly read nothing for as long as the
// bytes that it just read should have taken.
func (p *path) throttle(e *Env, bytes int) {
	if p.readsSlowly() && !p.rare.looks && !e.script.isEbbing() {
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
	p.rare.readsOn, p.rare.resume, p.rare.looks = e.now.Add(margin), 0, false
	e.frees(excuse.SlowReader, e.now.Add(margin))
}
