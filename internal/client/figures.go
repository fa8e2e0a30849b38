package client

import (
	"fmt"
	"slices"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// figures are those of the whole run that assert steps use, as they were last told.
type figures struct {
	values  []float64       // by number
	upTo    mono.Time       // what they say is of the run up to then
	waiting []ledger.Client // who waits for newer ones
	ready   []ledger.Client // who need not wait any more; taken by Ready
}

// heedFigure takes one figure; the last of them makes them known.
func (e *Env) heedFigure(n *fact.Note) {
	f := &e.figures
	if int(n.Which) < len(f.values) {
		f.values[n.Which] = n.Value
	}
	if int(n.Which) == len(f.values)-1 {
		f.upTo = n.At
		f.ready, f.waiting = append(f.ready, f.waiting...), f.waiting[:0]
	}
}

// Ready gives the clients that waited for figures which are known now.
func (e *Env) Ready() (ready []ledger.Client) {
	ready, e.figures.ready = e.figures.ready, nil
	return ready
}

// assert checks what the client knows, and what the run has measured. Figures are those of
// a moment at or after the step: they are waited for.
func (c *Client) assert(e *Env, now mono.Time, s *trial.Step) {
	if len(s.When.Figures()) > 0 && e.figures.upTo < e.rel(now) {
		c.await(forFigures, now, s.Within)
		e.awaitFigures(c)
		return
	}
	c.judgeAssert(e, now, s)
	c.pc++
}

func (e *Env) awaitFigures(c *Client) {
	if !slices.Contains(e.figures.waiting, c.id) {
		e.figures.waiting = append(e.figures.waiting, c.id)
	}
}

func (c *Client) judgeAssert(e *Env, now mono.Time, s *trial.Step) {
	c.fill(e)
	e.scope.Figures = e.figures.values
	wrong := "it does not hold"
	for _, i := range s.When.Figures() {
		wrong += fmt.Sprintf("; %s is %g", e.Trial.Asserted[i], e.figures.values[i])
	}
	e.check(c, now, s.Check, s.When.True(&e.scope), wrong)
}

// Figured tells a client that waits for figures that newer ones are known.
func (c *Client) Figured(e *Env, now mono.Time) {
	e.at(c, now)
	switch {
	case c.wait != forFigures:
	case e.figures.upTo < e.rel(c.began): // they are of before the step
		e.awaitFigures(c)
	default:
		c.judgeAssert(e, now, c.step())
		c.resume(e, now)
	}
}
