package replay

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// A Value is one that the server must say again, in a message that came.
type Value struct {
	Path string // where it stands, such as "error.code"
	Says string // what the recording has there
	Why  string // why it must be the same
	text bool
}

// Why a value must be the same.
const (
	fromClient = "the client itself had sent it"
	fromTwin   = "both recordings have it"
)

// leastSent is how long a text is that a server says because a client sent it, in bytes: shorter ones stand
// anywhere.
const leastSent = 3

// FixValues finds the values that the server must say again in the messages that came: those that the client
// itself had sent before, and, with another plan of the same session, those that are the same in both. What
// varies between the two is listed.
func (p *Plan) FixValues(twin *Plan) (varies []string) {
	for i, a := range p.Actors {
		sent := map[string]bool{}
		for k := range a.Steps {
			s := &a.Steps[k]
			switch s.Do {
			case Say, Ask:
				for _, l := range leaves(s.Payload) {
					sent[l.value] = sent[l.value] || l.text && len(l.value) >= leastSent
				}
			case Hear:
				s.Fixed = nil
				for _, l := range leaves(s.Payload) {
					if l.text && sent[l.value] {
						s.Fixed = append(s.Fixed, Value{l.path, l.value, fromClient, true})
					}
				}
			}
		}
		if twin != nil && i < len(twin.Actors) {
			varies = append(varies, p.fixAsIn(twin, a, twin.Actors[i])...)
		}
	}
	slices.Sort(varies)
	return slices.Compact(varies)
}

// fixAsIn finds the values that are the same in what came to an actor and in what came to its twin.
func (p *Plan) fixAsIn(twin *Plan, a, other *Actor) (varies []string) {
	heard := func(p *Plan, a *Actor) (all []Heard, steps []*Step) {
		vary := p.ValuesOf(a)
		for i := range a.Steps {
			if s := &a.Steps[i]; s.Do == Hear {
				all, steps = append(all, Heard{Shape: ShapeOf(s.Payload, s.Binary, vary), Sample: s.Payload}),
					append(steps, s)
			}
		}
		return all, steps
	}
	mine, steps := heard(p, a)
	theirs, _ := heard(twin, other)
	for _, pair := range align(mine, theirs) {
		said := map[string]string{}
		for _, l := range leaves(theirs[pair[1]].Sample) {
			said[l.path] = l.value
		}
		s := steps[pair[0]]
		for _, l := range leaves(s.Payload) {
			switch known := slices.ContainsFunc(s.Fixed, func(v Value) bool { return v.Path == l.path }); {
			case known || p.ofOthers(a, l.value):
			case said[l.path] == l.value:
				s.Fixed = append(s.Fixed, Value{l.path, l.value, fromTwin, l.text})
			default:
				varies = append(varies, fmt.Sprintf("%s of %s", shownPath(l.path), mine[pair[0]].Shape))
			}
		}
	}
	return varies
}

// ofOthers reports whether something that varies for other actors stands in a value: what it becomes now is not
// known to this one.
func (p *Plan) ofOthers(a *Actor, value string) bool {
	mine := p.ValuesOf(a)
	return slices.ContainsFunc(p.Guesses, func(g Guess) bool {
		return g.Value != "" && strings.Contains(value, g.Value) && !slices.Contains(mine, g.Value)
	})
}

// Filled gives the values of a step as they must be now. With several copies a message may be another copy's, so
// that what varies between them is left out.
func (p *Plan) Filled(a *Actor, s *Step, values []string, copies int) (all []Value) {
	for _, v := range s.Fixed {
		if copies > 1 && p.varies(v.Says) {
			continue
		}
		v.Says = p.Fill(a, v.Says, values)
		all = append(all, v)
	}
	return all
}

// varies reports whether something that varies stands in a value.
func (p *Plan) varies(value string) bool {
	return slices.ContainsFunc(p.Guesses, func(g Guess) bool {
		return g.Value != "" && strings.Contains(value, g.Value)
	})
}

// Says reports whether a message of the same shape says all that it must.
func (h *Heard) Says(sample []byte) bool {
	for i := range h.Values { // most messages of other copies end here, and are not taken apart
		if says := h.Values[i].Says; strings.Trim(says, plainLetters) == "" && !bytes.Contains(sample, []byte(says)) {
			return false
		}
	}
	_, _, wrong := wrongIn(h.Values, sample)
	return !wrong
}

// plainLetters stand in JSON as they are, most of the time; a server may write any other way, which is seen in the end.
const plainLetters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 -_.:,"

// wrongIn gives the first value that a message does not say, and what it says instead.
func wrongIn(fixed []Value, sample []byte) (v Value, now string, wrong bool) {
	if len(fixed) == 0 {
		return v, "", false
	}
	return wrongOf(fixed, byPath(sample))
}

func wrongOf(fixed []Value, said map[string]leaf) (v Value, now string, wrong bool) {
	for _, v := range fixed {
		if l, has := said[v.Path]; !has || l.value != v.Says || l.text != v.text {
			return v, l.value, true
		}
	}
	return v, "", false
}

// byPath gives the values of a message by where they stand.
func byPath(sample []byte) map[string]leaf {
	said := map[string]leaf{}
	for _, l := range leaves(sample) {
		said[l.path] = l
	}
	return said
}

// shownPath is a path for people.
func shownPath(path string) string { return strings.ReplaceAll(path, inText, ".") }

// byValues pairs messages of one shape anew so that their values agree: what different clients say comes in any
// order, copies hear what others say, too, and if some are missing it is those that nothing agrees with.
func byValues(pairs [][2]int, recorded, now []Heard) [][2]int {
	came := map[Shape][]int{} // of the shapes that have values: where they stand now
	for i := range recorded {
		if len(recorded[i].Values) > 0 {
			came[recorded[i].Shape] = nil
		}
	}
	for k := range now {
		if _, has := came[now[k].Shape]; has {
			came[now[k].Shape] = append(came[now[k].Shape], k)
		}
	}
	var all [][2]int
	for _, p := range pairs {
		if _, has := came[recorded[p[0]].Shape]; !has {
			all = append(all, p)
		}
	}
	said := make([]map[string]leaf, len(now))
	for s, left := range came {
		for _, k := range left {
			said[k] = byPath(now[k].Sample)
		}
		var of, plain, wrong []int
		for i := range recorded {
			if recorded[i].Shape == s {
				of = append(of, i)
			}
		}
		// Who has more values first: what agrees with those agrees with one that has fewer, too.
		slices.SortStableFunc(of, func(i, k int) int { return len(recorded[k].Values) - len(recorded[i].Values) })
		for _, i := range of {
			at := slices.IndexFunc(left, func(k int) bool {
				_, _, wrong := wrongOf(recorded[i].Values, said[k])
				return !wrong
			})
			switch {
			case len(recorded[i].Values) == 0:
				plain = append(plain, i)
			case at < 0:
				wrong = append(wrong, i)
			default:
				all = append(all, [2]int{i, left[at]})
				left = slices.Delete(left, at, at+1)
			}
		}
		slices.Sort(plain)
		slices.Sort(wrong)
		for n, i := range append(plain, wrong...) {
			if n < len(left) {
				all = append(all, [2]int{i, left[n]})
			}
		}
	}
	slices.SortFunc(all, func(a, b [2]int) int { return a[0] - b[0] })
	return all
}
