// Package common finds what cases that went wrong have in common and others have not: of all that can be said of them
// the shortest that is true of nearly all of the ones, of few of the others, and no accident.
//
// It knows nothing of messages or clients: cases are rows of words and numbers, and what is common is said by whoever
// asks. It reads no clock and draws no lots.
package common

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"tidepull/internal/base/units"
)

// A Case is one thing that went wrong, or well.
type Case struct {
	Words   []string  // by the question; "" is not known, or no word
	Numbers []float64 // by the question; NaN is not known, or no number
	Units   []int64   // by Unit: what it is one of
	Time    float64   // when it was, in seconds; NaN: at no one time
}

// A Question is something that cases may have in common.
type Question struct {
	// Unit is whose it is: cases of one unit say the same of it, so that they are one piece of evidence.
	Unit int
	// Word says what is common to those that have a word in common, "" if that is not worth saying; nil if it is a
	// number.
	Word func(word string) string
	// Most says that what is a number is at most so much, and Least that it is at least so much; nil: it is not asked.
	Most, Least func(x float64) string
	// Between says that it lies within narrow bounds, the upper at most a fifth above the lower; nil: it is not asked.
	Between func(from, to float64) string
	// Round gives the number as it is said, at least as large as it is, or (down) at most as large; nil: as it is.
	Round func(x float64, down bool) float64
	// OfTime is set if it is about when it was, or what all was like then.
	OfTime bool
}

// A Finding is what is common.
type Finding struct {
	Words  []string // what is true: one thing, or two
	Covers int      // of how many of the wrong it is true
	Of     int      // how many these are
	Others float64  // of which share of the others it is true
}

// Bounds on what is found: the share of the wrong that it is true of at least, the share of the others that it is true
// of at most, how many units the wrong must be of, and how likely it may be an accident.
const (
	leastCovered = 0.95
	mostOthers   = 0.2
	broadOthers  = 0.6 // if it is a word that is true of all the wrong: there may be two nodes, or three crews
	leastUnits   = 5
	accident     = 1e-6
	narrow       = 1 / 1.2 // of the upper of two bounds that are one condition
)

// Find finds what the wrong have in common and the others have not; false if there is nothing. A case that went well
// may stand for many; there should be some of each unit.
func Find(questions []Question, wrong, others []Case) (f Finding, found bool) {
	if len(wrong) < leastUnits || len(others) == 0 {
		return f, false
	}
	s := &search{questions: questions, wrong: wrong, others: others}
	near := near(wrong, others)
	s.others = near
	best, found := s.look(func(q *Question) bool { return !q.OfTime && len(near) >= leastNear })
	if !found {
		*s = search{questions: questions, wrong: wrong, others: others, tried: s.tried}
		best, found = s.look(func(q *Question) bool { return q.OfTime || len(near) == len(others) })
	}
	if !found {
		return f, false
	}
	for _, t := range best.tests {
		f.Words = append(f.Words, t.words)
	}
	f.Covers, f.Of, f.Others = best.covers, len(wrong), best.others
	return f, true
}

// near are the others that were when the wrong were, if those came in few spells: else what was so in all of a spell
// would be common to them. All of them if they came all the time, or one by one.
func near(wrong, others []Case) []Case {
	times, units := []float64{}, map[int64]bool{}
	for i := range wrong {
		if t := wrong[i].Time; !math.IsNaN(t) {
			times = append(times, t)
		}
		units[wrong[i].Units[0]] = true
	}
	if len(times) < len(wrong) {
		return others
	}
	slices.Sort(times)
	const apart = 1.0 // seconds between two spells
	type spell struct{ from, to float64 }
	var spells []spell
	for i, t := range times {
		if i == 0 || t-times[i-1] > apart {
			spells = append(spells, spell{t - apart/10, 0})
		}
		spells[len(spells)-1].to = t + apart/10
	}
	if len(units) < leastUnits*len(spells) {
		return others
	}
	var then []Case
	for i := range others {
		t := others[i].Time
		k := sort.Search(len(spells), func(k int) bool { return spells[k].to >= t })
		if math.IsNaN(t) || k < len(spells) && spells[k].from <= t {
			then = append(then, others[i])
		}
	}
	if 2*len(then) > len(others) {
		return others
	}
	return then
}

// leastNear is how many others there must be then to hold the wrong against.
const leastNear = 20

// look asks some of the questions.
func (s *search) look(asked func(*Question) bool) (best candidate, found bool) {
	for q := range s.questions {
		if asked(&s.questions[q]) {
			s.ask(q)
		}
	}
	if best, found = s.best(s.found); found {
		return best, true
	}
	s.pair()
	if best, found = s.best(s.found); !found {
		best, found = s.best(s.broad)
	}
	return best, found
}

// best is the candidate that is no accident and least likely to be one.
func (s *search) best(of []candidate) (best candidate, found bool) {
	for _, c := range of {
		if c.accident*float64(s.tried) < accident && (!found || c.accident < best.accident) {
			best, found = c, true
		}
	}
	return best, found
}

// A test is a condition that a case meets or not.
type test struct {
	question int
	word     string
	least    bool
	bound    float64
	upTo     float64 // if it has two bounds: the upper
	words    string
}

func (t *test) of(c *Case) bool {
	switch {
	case t.word != "":
		return c.Words[t.question] == t.word
	case t.least:
		x := c.Numbers[t.question]
		return x >= t.bound && (t.upTo == 0 || x <= t.upTo)
	}
	return c.Numbers[t.question] <= t.bound // false of NaN, too
}

// A candidate is one condition or two that are true of enough of the wrong.
type candidate struct {
	tests    []test
	covers   int
	others   float64
	accident float64 // how likely it is to be one
}

type search struct {
	questions     []Question
	wrong, others []Case
	tried         int    // conditions that were tried
	wide          []test // true of enough of the wrong, and of too many others
	found         []candidate
	broad         []candidate // words that are true of all the wrong, and of up to broadOthers
}

// ask tries all conditions of one question.
func (s *search) ask(q int) {
	question := &s.questions[q]
	if question.Word != nil {
		times := map[string]int{}
		for i := range s.wrong {
			times[s.wrong[i].Words[q]]++
		}
		for _, c := range s.others {
			times[c.Words[q]] += 0
		}
		delete(times, "")
		if s.tried += len(times); len(times) < 2 {
			return // there is nothing else that it could be
		}
		for word, n := range times {
			if words := question.Word(word); words != "" && float64(n) >= leastCovered*float64(len(s.wrong)) {
				s.try(test{question: q, word: word, words: words})
			}
		}
		return
	}
	var known []float64
	for i := range s.wrong {
		if x := s.wrong[i].Numbers[q]; !math.IsNaN(x) {
			known = append(known, x)
		}
	}
	if float64(len(known)) < leastCovered*float64(len(s.wrong)) {
		return
	}
	slices.Sort(known)
	few := len(known) - int(math.Ceil(leastCovered*float64(len(s.wrong)))) // that may be left out
	for _, out := range slices.Compact([]int{0, few}) {
		from, to := question.round(known[out], true), question.round(known[len(known)-1-out], false)
		if question.Between != nil && to > 0 && from >= to*narrow {
			s.try(test{question: q, least: true, bound: from, upTo: to, words: question.Between(from, to)})
		}
		if question.Most != nil {
			x := question.round(known[len(known)-1-out], false)
			s.try(test{question: q, bound: x, words: question.Most(x)})
		}
		if question.Least != nil {
			x := question.round(known[out], true)
			s.try(test{question: q, least: true, bound: x, words: question.Least(x)})
		}
		s.tried += 3
	}
}

func (q *Question) round(x float64, down bool) float64 {
	if q.Round == nil {
		return x
	}
	return q.Round(x, down)
}

// pair tries two conditions at once that are each true of too many others.
func (s *search) pair() {
	s.tried += len(s.wide) * len(s.wide)
	for i := range s.wide {
		for _, second := range s.wide[i+1:] {
			s.try(s.wide[i], second)
		}
	}
}

// try takes a condition, or two at once, among the candidates if it is one.
func (s *search) try(tests ...test) {
	holds := func(c *Case) bool {
		return !slices.ContainsFunc(tests, func(t test) bool { return !t.of(c) })
	}
	unit := s.questions[tests[0].question].Unit
	covers, among := count(s.wrong, unit, holds)
	good, apart := count(s.others, unit, holds)
	if float64(covers) < leastCovered*float64(len(s.wrong)) || among.all < leastUnits {
		return
	}
	others := float64(good) / float64(len(s.others))
	by := max((apart.held+1)/float64(apart.all+2), others)
	c := candidate{slices.Clone(tests), covers, others, tail(int(among.held+1e-9), among.all, by)}
	switch {
	case others < mostOthers:
		s.found = append(s.found, c)
	case len(tests) == 1:
		if s.wide = append(s.wide, tests[0]); tests[0].word != "" && covers == len(s.wrong) && others < broadOthers {
			s.broad = append(s.broad, c)
		}
	}
}

// held is of how many units something is true, each counted by the share of its cases of which it is, and how many
// units there are.
type held struct {
	held float64
	all  int
}

func count(cases []Case, unit int, holds func(*Case) bool) (covers int, of held) {
	type share struct{ is, all int }
	seen := map[int64]share{}
	for i := range cases {
		c := &cases[i]
		s := seen[c.Units[unit]]
		if s.all++; holds(c) {
			s.is++
			covers++
		}
		seen[c.Units[unit]] = s
	}
	of.all = len(seen)
	for _, s := range seen {
		of.held += float64(s.is) / float64(s.all)
	}
	return covers, of
}

// tail is how likely at least k of n are so by accident, if each is with some likelihood.
func tail(k, n int, likely float64) (p float64) {
	logOf := func(n int) float64 {
		l, _ := math.Lgamma(float64(n + 1))
		return l
	}
	for ; k <= n; k++ {
		p += math.Exp(logOf(n) - logOf(k) - logOf(n-k) + float64(k)*math.Log(likely) + float64(n-k)*math.Log1p(-likely))
	}
	return min(1, p)
}

// Says is the finding in words, of things that went wrong in some way: "all 199 lost: the recipient is the sender".
func (f *Finding) Says(what string) string {
	count := fmt.Sprintf("%s of %s", units.Count(int64(f.Covers)), units.Count(int64(f.Of)))
	if f.Covers == f.Of {
		count = "all " + units.Count(int64(f.Of))
	}
	return fmt.Sprintf("%s %s: %s", count, what, strings.Join(f.Words, ", and "))
}
