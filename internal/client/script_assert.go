package client

import (
	"fmt"
	"slices"
	"strings"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
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
func (s *script) assert(e *Env, step *trial.Step) {
	if len(step.When.Figures()) > 0 && e.figures.upTo < e.rel(e.now) {
		s.await(e, forFigures, step.Within)
		e.awaitFigures()
		return
	}
	s.judgeAssert(e, step)
	s.pc++
}

func (e *Env) awaitFigures() {
	if !slices.Contains(e.figures.waiting, e.c.id) {
		e.figures.waiting = append(e.figures.waiting, e.c.id)
	}
}

func (s *script) judgeAssert(e *Env, step *trial.Step) {
	e.fill()
	e.scope.Figures = e.figures.values
	held, values := step.When.True(&e.scope), ""
	if !held {
		values = e.valuesIn(step.When)
	}
	e.checkWith(step.Check, held, "it does not hold", values)
}

// valuesIn says what the figures and the variables of a condition are.
func (e *Env) valuesIn(p *expr.Program) string {
	var all []string
	for _, i := range p.Figures() {
		all = append(all, fmt.Sprintf("%s is %g", e.Trial.Asserted[i], e.figures.values[i]))
	}
	for _, i := range p.Locals() {
		value := "not set"
		if i < len(e.scope.Locals) && e.scope.Locals[i].Kind != expr.Missing {
			value = "'" + plain.Text(string(e.scope.Locals[i].Append(nil)), 100) + "'"
		}
		all = append(all, fmt.Sprintf("my.%s is %s", e.Trial.Locals[i], value))
	}
	return strings.Join(all, ", ")
}

// figured goes on if the figures are known that the script waits for.
func (s *script) figured(e *Env) {
	switch {
	case s.wait != forFigures:
	case e.figures.upTo < e.rel(s.began): // they are of before the step
		e.awaitFigures()
	default:
		s.judgeAssert(e, s.step())
		s.resume(e)
	}
}
