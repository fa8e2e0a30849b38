package replay

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/wire/http1"
)

// rehome gives requests to the client that uses what their answers say: of several that log in one after the other,
// and connect later, each has its own token. A request whose answer nobody uses stays where it is, with the client
// that connected last before it, and so does one whose client uses its answer itself.
func rehome(actors []*Actor) {
	for moved := true; moved; { // what a request needs may come of one before it
		moved = false
		for _, a := range actors {
			for i := len(a.Steps) - 1; i >= 0; i-- {
				s := a.Steps[i]
				to := s.belongsTo(actors, a)
				if to == nil {
					continue
				}
				a.Steps = slices.Delete(a.Steps, i, i+1)
				to.Steps = append(to.Steps, s)
				sortSteps(to.Steps)
				moved = true
			}
		}
	}
}

// belongsTo is the client that uses what the answer to a request says, and connected after it; nil if that is the
// one that has it, or nobody.
func (s *Step) belongsTo(actors []*Actor, has *Actor) *Actor {
	if s.Do != Ask || len(has.Steps) < 2 {
		return nil
	}
	given := s.givenValues()
	if len(given) == 0 || has.usesAny(given, s) {
		return nil
	}
	for _, a := range actors {
		if a != has && a.connects() > s.At && a.usesAny(given, s) {
			return a
		}
	}
	return nil
}

// givenValues lists what an answer says that a client could only have from it.
func (s *Step) givenValues() (values []string) {
	eachGiven(s.Answer, s.Head, func(value string, _ given) { values = append(values, value) })
	return values
}

// usesAny reports whether a client says one of some values after a step.
func (a *Actor) usesAny(values []string, after *Step) bool {
	for i := range a.Steps {
		s := &a.Steps[i]
		if s.IsHeard() || s.At <= after.At {
			continue
		}
		for _, v := range values {
			if strings.Contains(s.cookies, v) {
				return true
			}
		}
		for _, l := range sayings(s) {
			if slices.Contains(values, l.value) || slices.ContainsFunc(values,
				func(v string) bool { return len(v) >= leastWithin && strings.Contains(l.value, v) }) {
				return true
			}
		}
	}
	return false
}

// connects is when a client's connection that stays is opened; 0 if it has none.
func (a *Actor) connects() time.Duration {
	for i := range a.Steps {
		if do := a.Steps[i].Do; do == Connect || do == Follow {
			return a.Steps[i].At
		}
	}
	return 0
}

// givenTo is where the server said a value first, of all clients.
type givenTo struct {
	given
	to *Actor
	at time.Duration
}

// givenFirst lists the values that the server made up, by where it said them first: those that no client said
// before it did.
func (p *Plan) givenFirst() map[string]givenTo {
	all, said := map[string]givenTo{}, map[string]bool{}
	for _, m := range p.moments() {
		if !m.Answer && !m.Step.IsHeard() {
			for _, l := range sayings(m.Step) {
				said[l.value] = true
			}
		}
		var head []http1.Field
		if m.Answer || m.Step.Do != Ask {
			head = m.Step.Head
		}
		eachGiven(m.heard(), head, func(value string, g given) {
			if _, known := all[value]; !known && !said[value] && len(value) >= leastWithin {
				all[value] = givenTo{g, m.of, m.At}
			}
		})
	}
	return all
}

// A Moment is a step of an actor's, or the answer to one.
type Moment struct {
	At     time.Duration // since the recording began
	Index  int           // of the step
	Step   *Step
	Answer bool
	of     *Actor
}

// Moments lists an actor's steps and the answers to its requests, in the order of time.
func (a *Actor) Moments() (all []Moment) {
	for i := range a.Steps {
		s := &a.Steps[i]
		all = append(all, Moment{s.At, i, s, false, a})
		if s.Do == Ask && s.Status > 0 {
			all = append(all, Moment{s.At + s.Took, i, s, true, a})
		}
	}
	inOrder(all)
	return all
}

// moments are those of all actors.
func (p *Plan) moments() (all []Moment) {
	for _, a := range p.Actors {
		all = append(all, a.Moments()...)
	}
	inOrder(all)
	return all
}

func inOrder(all []Moment) {
	slices.SortStableFunc(all, func(x, y Moment) int { return cmp.Compare(x.At, y.At) })
}

// heard is what the server says at a moment.
func (m *Moment) heard() []byte {
	if m.Answer {
		return m.Step.Answer
	}
	return heardIn(m.Step)
}

// giveToOther finds that a client says what the server gave to another one.
func (p *Plan) giveToOther(a *Actor, value string, by givenTo) {
	p.give(by.to, value, by.given)
	for i := range p.Guesses {
		if g := &p.Guesses[i]; g.Value == value && g.Actor == by.to.Number && g.Kind == "given" {
			g.Shared, g.Why = true, fmt.Sprintf("the server gives it to client %d %s, and client %d says it",
				by.to.Number, by.place(), a.Number)
			return
		}
	}
}
