package finding

import (
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

var nothingOnReturn = Weakness{Number: 12, Question: WhenItBreaks, Title: "nothing on return",
	Usually: "What is said while a client is away is kept for nobody, or is asked for from the wrong place. " +
		"Look at what the server does with the last number that a client gives as it comes back.",
	Experiment: "clients that are cut off while others speak, and come back"}

var doubledOnReturn = Weakness{Number: 13, Question: WhenItBreaks, Title: "doubled on return",
	Usually: "What is sent again and what goes on live overlap: the client is added to the room before the " +
		"missed messages are read, or the number it gives is taken as the next one. Look at the order of these two " +
		"steps.",
	Experiment: "clients that are cut off while others speak, and come back"}

var slowReturned = Weakness{Number: 21, Question: WhenItBreaks, Title: "slow return",
	Usually: "Coming back costs the server much more than staying: a query, a history, a list for each. Look " +
		"at what is done for each connection, and whether it is done for all of them at once.",
	Experiment: "all clients are cut off at once; how long does a crowd take against one of them?"}

// onReturn finds what went wrong with clients that were away.
func onReturn(s *search) (all []Finding) {
	missed := func(d delivery) bool {
		v := s.lives[d.o.Client]
		if v == nil {
			return false
		}
		gone, was := last(v.Gone, d.sent())
		back, is := last(v.Back, d.sent())
		came := len(v.Back) > 0 && v.Back[len(v.Back)-1] > d.sent()
		return was && came && (!is || back < gone)
	}
	s.explain(ledger.Lost, missed)
	who := map[ledger.Client]bool{}
	var cases []Evidence
	n := int64(0)
	for _, l := range s.Lost {
		m := ledger.Message{Number: l.Number, Kind: ledger.Notice, Room: l.Room, Sender: l.Sender,
			Sent: mono.Time(l.At)}
		d := delivery{&m, &ledger.Outcome{Client: l.To}}
		if !missed(d) || !s.Well(l.At) {
			continue
		}
		n++
		if !who[l.To] && len(cases) < mostEvidence {
			cases = append(cases, Evidence{Says: fmt.Sprintf("%s never got %s, as it was away", s.name(l.To),
				s.said(&m)),
				Message: &m.Number, Client: l.To, At: l.At})
		}
		who[l.To] = true
	}
	if n > 0 && s.Certain("ledger.lost") {
		all = append(all, Finding{Weakness: nothingOnReturn.Number, Severity: Loss, Figures: []string{"ledger.lost"},
			Share: shareOf(n, n+s.Total.Total.CaughtUp),
			Says: fmt.Sprintf("%s came back and never got %s that were said while they were away, though the server "+
				"promises it", units.Plural(len(who), "client"), units.Plural(int(n), "message")), Evidence: cases})
	}
	again := func(d delivery) bool {
		v := s.lives[d.o.Client]
		if v == nil || !d.m.Kind.Said() {
			return false
		}
		for i, back := range v.Back {
			gone, was := last(v.Gone, back)
			if was && d.sent() <= back+s.Trial.Prompt && d.sent() >= gone-s.Trial.Grace && i < len(v.Back) {
				return true
			}
		}
		return false
	}
	if twice := s.those(ledger.Duplicate, again); len(twice) > 0 {
		s.explain(ledger.Duplicate, again)
		all = append(all, Finding{Weakness: doubledOnReturn.Number, Severity: Wrong,
			Figures: []string{"ledger.duplicate"},
			Share:   shareOf(int64(len(twice)), int64(len(twice))+s.Total.Total.CaughtUp),
			Says: fmt.Sprintf("%s came back and got %s a second time%s", units.Plural(clients(twice), "client"),
				units.Plural(len(twice), "message"), s.first()),
			Evidence: s.evidence(twice, func(d delivery) string {
				return fmt.Sprintf("%s got %s again", s.name(d.o.Client), s.said(d.m))
			})})
	}
	return all
}

// slowReturn finds clients that did not come back, though the server was there again.
func slowReturn(s *search) []Finding {
	c := &s.Total.Counts.Returns
	gaveUp := s.events(logbook.GaveUp)
	if slow := s.slowCrowd(); slow != nil {
		return slow
	}
	if c.GaveUp == 0 || c.Broke < 3 || s.ServerEnded != "" {
		return nil
	}
	// One that gave up while the trial still kept it away says nothing.
	var free []*logbook.Event
	for _, e := range gaveUp {
		if len(s.during(e.At, time.Second)) == 0 {
			free = append(free, e)
		}
	}
	if len(free) == 0 {
		return nil
	}
	return []Finding{{Weakness: slowReturned.Number, Severity: Wrong, Figures: []string{"returns.gave_up"},
		Share: shareOf(int64(len(free)), c.Broke),
		Says: fmt.Sprintf("%s of %s connections that broke did not come back within their tries: of %s tries %s were "+
			"refused and %s not answered", units.Count(int64(len(free))), units.Count(c.Broke), units.Count(c.Tries),
			units.Count(c.Refused), units.Count(c.TimedOut)), Evidence: s.eventEvidence(free)}}
}

// slowCrowd finds that a crowd comes back much more slowly than a few do, after connections were cut by the trial.
func (s *search) slowCrowd() []Finding {
	var few, crowd []time.Duration
	var cases []Evidence
	for _, d := range s.Doings {
		if d.Do != trial.CutClients.String() {
			continue
		}
		took, who := s.comingBack(d)
		for i, t := range took {
			if len(took) >= leastReturning && t > slowestReturn && len(cases) < mostEvidence {
				cases = append(cases, Evidence{Says: fmt.Sprintf("%s was back %s after it might have been",
					s.name(who[i]),
					units.Duration(t)), Client: who[i], At: d.From})
			}
		}
		switch {
		case len(took) >= leastReturning:
			crowd = append(crowd, took...)
		case len(took) <= leastReturning/4:
			few = append(few, took...)
		}
	}
	if len(few) == 0 || len(crowd) == 0 {
		return nil
	}
	slices.Sort(few)
	slices.Sort(crowd)
	one, most := few[len(few)/2], crowd[len(crowd)*9/10]
	if most < slowestReturn || most < timesSlower*one {
		return nil
	}
	return []Finding{{Weakness: slowReturned.Number, Severity: Slow, Figures: []string{"returns.reconnect.p90"},
		Says: fmt.Sprintf("of a crowd whose connections broke at once one in ten was back only after %s; a few take %s",
			units.Duration(most), units.Duration(one)), Evidence: cases}}
}

// comingBack says how long clients took to be back whose connections the trial cut, from when they might have been,
// if the tool and the machine did well meanwhile.
func (s *search) comingBack(d Doing) (took []time.Duration, who []ledger.Client) {
	for c, v := range s.lives {
		gone, was := last(v.Gone, d.From+cutTakes)
		if !was || gone < d.From {
			continue
		}
		for _, back := range v.Back {
			if back > gone {
				for at := gone; at < back; at += time.Second {
					if !s.Well(at) {
						return nil, nil
					}
				}
				took, who = append(took, max(0, back-max(gone, d.To))), append(who, c)
				break
			}
		}
	}
	return took, who
}

// Bounds on how a crowd comes back: what is a crowd, how slow it must be, and how much slower than a few; and how long
// after a cut begins connections break by it.
const (
	leastReturning = 10
	slowestReturn  = 1500 * time.Millisecond
	timesSlower    = 5
	cutTakes       = 500 * time.Millisecond
)
