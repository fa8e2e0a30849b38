package account

import (
	"fmt"
	"slices"

	"tidepull/internal/base/bitset"
	"tidepull/internal/base/mono"
	"tidepull/internal/base/queue"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
)

// feeds compares what clients were given as readings of feeds of which all must be given the same. Readings with
// a number are told apart by it. Others are told apart by what they tell: what one is given, everybody who follows
// the feed must be given, too, within the grace time.
type feeds struct {
	parts    map[feedPart]*followed
	numbered queue.Queue[numberedReading] // that are known, in the order in which they came
	open     queue.Queue[*given]          // without numbers, and not judged yet, by when they came
	texts    map[uint64]string            // by digest
}

// A feedPart is a feed, or what stands under one key of it.
type feedPart struct {
	feed int
	key  mono.Time // a digest
}

type followed struct {
	numbers   map[uint64]*given            // by number
	values    map[uint64]*given            // without numbers, by digest: the latest that is not judged yet
	followers map[ledger.Client]*following // of those without numbers
}

type following struct{ since, last mono.Time } // its first reading and its last, on one connection

type numberedReading struct {
	in     *followed
	number uint64
}

// A given is a reading that somebody was given.
type given struct {
	part  feedPart
	in    *followed
	sum   uint64
	by    ledger.Client // that had it first
	first mono.Time
	to    bitset.Set
}

// Bounds: parts of feeds, numbers that are known, texts.
const (
	maxParts    = 1 << 12
	maxNumbered = 1 << 14
	maxTexts    = 1 << 12
)

const notTheSame = "another client was given something else as the same reading"

// reads takes a reading.
func (a *Account) reads(s *share, f *fact.Fact) {
	x := &a.feeds
	part := feedPart{int(f.Check), f.Since}
	in := x.parts[part]
	if in == nil {
		if len(x.parts) >= maxParts {
			a.reasons.Count(fmt.Sprintf("not judged: feeds have more than %d keys", maxParts), 1)
			return
		}
		if x.parts == nil {
			x.parts, x.texts = map[feedPart]*followed{}, map[uint64]string{}
		}
		in = &followed{map[uint64]*given{}, map[uint64]*given{}, map[ledger.Client]*following{}}
		x.parts[part] = in
	}
	if text := s.log.TextOf(f); len(text) > 0 {
		if len(x.texts) >= maxTexts {
			clear(x.texts)
		}
		x.texts[f.Sum] = string(text)
	}
	g := &given{part: part, in: in, sum: f.Sum, by: f.Client, first: f.Time}
	if f.Is(fact.Numbered) {
		a.readsNumber(g, f)
		return
	}
	fl := in.followers[f.Client]
	if fl == nil {
		fl = &following{since: f.Time}
		in.followers[f.Client] = fl
	}
	fl.last = f.Time
	if open := in.values[f.Sum]; open != nil && f.Time <= open.first.Add(a.trial.Grace) {
		g = open
	} else {
		in.values[f.Sum] = g
		x.open.Push(g)
	}
	g.to.Add(int(f.Client))
}

// readsNumber compares a reading with what came first under its number.
func (a *Account) readsNumber(g *given, f *fact.Fact) {
	x, check := &a.feeds, a.trial.Feeds[g.part.feed].Check
	was := g.in.numbers[f.Number]
	if was == nil {
		g.in.numbers[f.Number] = g
		x.numbered.Push(numberedReading{g.in, f.Number})
		if x.numbered.Len() > maxNumbered {
			old := x.numbered.Pop()
			delete(old.in.numbers, old.number)
		}
		return
	}
	if was.sum == f.Sum {
		a.check(f.Client, noRoom, check, true, "", "", f.At)
		return
	}
	a.check(f.Client, noRoom, check, false, fmt.Sprintf("%s; %s to %s, %s here, number %d", notTheSame,
		a.quoted(was.sum),
		a.nameOf(was.by), a.quoted(f.Sum), f.Number), notTheSame, f.At)
}

// quoted is what a reading told, to be shown.
func (a *Account) quoted(sum uint64) string {
	if text, known := a.feeds.texts[sum]; known {
		return "'" + text + "'"
	}
	return "something else"
}

// unfollows books that a client is given no more of any feed, for all that is known: it leaves a room, or its
// connection ends.
func (a *Account) unfollows(c ledger.Client) {
	for _, in := range a.feeds.parts {
		delete(in.followers, c)
	}
}

// feedsDue is when the oldest reading without a number is to be judged; mono.Never if there is none.
func (a *Account) feedsDue() mono.Time {
	if a.feeds.open.Len() == 0 {
		return mono.Never
	}
	return (*a.feeds.open.At(0)).first.Add(a.trial.Grace)
}

// settleFeeds judges readings without a number.
func (a *Account) settleFeeds(now mono.Time) {
	for a.feedsDue() <= now {
		g := a.feeds.open.Pop()
		if g.in.values[g.sum] == g {
			delete(g.in.values, g.sum)
		}
		a.judgeGiven(g)
	}
}

// judgeGiven judges to whom a reading came of those who followed the feed before it and after it. The fewer are
// wrong: those who had it, or those who had not.
func (a *Account) judgeGiven(g *given) {
	var had, not []ledger.Client // those who had it, and those who had not
	for c, fl := range g.in.followers {
		switch {
		case g.first.Sub(fl.since) <= a.trial.Prompt, fl.last <= g.first, a.ledger.Unread(c, g.first),
			a.ledger.CutOff(c, g.first):
		case g.to.Has(int(c)):
			had = append(had, c)
		default:
			not = append(not, c)
		}
	}
	check, at := a.trial.Feeds[g.part.feed].Check, a.now
	if len(had)+len(not) < 2 {
		return
	}
	wrong, why := not, "it was not given %s, which %d others were, %s first"
	others := len(had)
	if len(had) < len(not) {
		wrong, why, others = had, "it was given %s, which %d others were not; %s had it first", len(not)
	}
	slices.Sort(wrong) // they come out of a map
	for range len(had) + len(not) - len(wrong) {
		a.book.At(g.first).Check(check, true)
	}
	for _, c := range wrong {
		a.check(c, noRoom, check, false, notTheSame+"; "+fmt.Sprintf(why, a.quoted(g.sum), others, a.nameOf(g.by)),
			notTheSame, at)
	}
}
