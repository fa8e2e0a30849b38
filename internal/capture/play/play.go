// Package play carries out the plan of a recording with one or more copies of
// its clients, and holds what the server says now against what it said then.
package play

import (
	"context"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"sync"
	"time"

	"tidepull/internal/capture/recording"
	"tidepull/internal/capture/replay"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/secure"
	"tidepull/internal/trial/expr"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
)

// Options say how a plan is played.
type Options struct {
	To     string       // in place of the plan's target
	Addrs  []netip.Addr // where its name leads; none: it is looked up for each connection
	TLS    wire.TLS
	Copies int           // of all its clients; at least 1
	Speed  float64       // pauses are divided by this; 0 leaves them out
	Within time.Duration // how long something that came then may take now
	Late   replay.Lateness
	// Ignore are what may differ: a difference whose subject, or whose two sides, one of
	// them matches does not count.
	Ignore []*regexp.Regexp
	// Secrets are the values that were hidden in the recording, by their
	// placeholders.
	Secrets map[string]string
	way     *http.Transport // of the requests of all players; Run makes it
	// Progress, if set, is called with how far the replay is, now and then.
	Progress func(done, of int)
}

// An Unreachable is why nothing could be played: nobody got an answer.
type Unreachable struct{ To, Why string }

func (e *Unreachable) Error() string {
	return fmt.Sprintf("no connection to %s could be opened: %s", e.To, e.Why)
}

// A Result is what became of it.
type Result struct {
	Copies      int                 `json:"copies"`
	Clients     int                 `json:"clients"`  // of each copy
	Expected    int                 `json:"expected"` // things that the server said then, times the copies
	Came        int                 `json:"came"`     // things that it said now
	Took        time.Duration       `json:"took_ns"`
	StoodStill  time.Duration       `json:"stood_still_ns"` // the longest time for which this program had no core
	Same        bool                `json:"same"`
	Compared    bool                `json:"compared"` // there was something that could be compared
	Ignored     int                 `json:"ignored"`  // differences that were to be
	Groups      []Group             `json:"differences"`
	Differences []replay.Difference `json:"all"` // the first maxDifferences of them
	Unlisted    int                 `json:"unlisted"`
}

// maxDifferences bounds the differences that are kept one by one.
const maxDifferences = 1000

// A Group is the differences of one kind about the same thing.
type Group struct {
	Kind    string            `json:"kind"`
	What    string            `json:"what"`
	Times   int               `json:"times"`
	Example replay.Difference `json:"example"`
	Counts  bool              `json:"counts"` // it makes the replay differ
	// Suggests is a pattern that would ignore the group, if it looks as if one text in it
	// were another each time.
	Suggests string `json:"suggests,omitempty"`
}

// Run plays a plan. The error says why it could not be begun.
func Run(ctx context.Context, p *replay.Plan, o Options) (*Result, error) {
	o.Copies = max(1, o.Copies)
	if o.Within <= 0 {
		o.Within = 5 * time.Second
	}
	if o.Late.Factor == 0 {
		o.Late = replay.Lateness{Factor: 3, Least: 250 * time.Millisecond}
	}
	if o.To == "" {
		o.To = p.Target
	}
	cfg, err := secure.ClientConfig(&o.TLS)
	if err != nil {
		return nil, err
	}
	o.way = http.DefaultTransport.(*http.Transport).Clone()
	o.way.TLSClientConfig = cfg
	if len(o.Addrs) > 0 {
		o.way.DialContext = func(ctx context.Context, _, address string) (net.Conn, error) {
			to, err := wire.ParseAddress("tcp://" + address)
			if err != nil {
				return nil, err
			}
			conn, _, err := poll.DialAny(ctx, o.Addrs, to.Port)
			return conn, err
		}
	}
	defer o.way.CloseIdleConnections()
	programs := make([]*expr.Program, len(p.Guesses))
	var hidden error
	for i, g := range p.Guesses {
		if g.Kind == "name" || g.Kind == "given" {
			continue
		}
		if g.Kind == "secret" {
			if o.Secrets[g.Value] == "" && hidden == nil {
				_, env := recording.SecretOf(g.Value)
				hidden = fmt.Errorf("the recording hides a credential: set %s in the environment, or record with "+
					"--with-credentials", env)
			}
			continue
		}
		var err error
		if programs[i], err = language.Expression(g.Becomes); err != nil {
			return nil, fmt.Errorf("what %q becomes: %w", g.Value, err)
		}
	}
	if hidden != nil {
		return nil, hidden
	}
	began := time.Now()
	r := &Result{Copies: o.Copies, Clients: len(p.Actors)}
	c := collection{result: r, groups: map[[2]string]*Group{}, copies: o.Copies, ignore: o.Ignore}
	var running sync.WaitGroup
	all := newOrder(p)
	for copy := range o.Copies {
		order := newTurns(all)
		for _, a := range p.Actors {
			pl := newPlayer(p, a, copy, o, programs, began)
			pl.turns, pl.hearings = order, all.hearings[a]
			running.Go(func() { c.add(pl, pl.run(ctx)) })
		}
		if copy%20 == 19 { // a thousand handshakes at once is another experiment
			time.Sleep(5 * time.Millisecond)
		}
	}
	finished := make(chan struct{})
	go func() {
		running.Wait()
		close(finished)
	}()
	stood := make(chan time.Duration, 1)
	go func() { stood <- standstill(finished) }()
	c.tellUntil(finished, o)
	r.Took, r.StoodStill = time.Since(began), <-stood
	c.sum(o.Late)
	if !c.reached && c.refusal != "" {
		return r, &Unreachable{o.To, c.refusal}
	}
	return r, ctx.Err()
}

// standstill measures, until the replay is over, for how long this program did not run
// though it should have: on a crowded machine things come late by nobody's doing.
func standstill(finished <-chan struct{}) (longest time.Duration) {
	const every = 10 * time.Millisecond
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for last := time.Now(); ; {
		select {
		case <-finished:
			return longest
		case <-ticker.C:
			now := time.Now()
			longest, last = max(longest, now.Sub(last)-every), now
		}
	}
}

// tellEvery is how often the progress of a replay is reported.
const tellEvery = time.Second

// tellUntil says how far the replay is until it is over.
func (c *collection) tellUntil(finished <-chan struct{}, o Options) {
	ticker := time.NewTicker(tellEvery)
	defer ticker.Stop()
	for {
		select {
		case <-finished:
			return
		case <-ticker.C:
			if o.Progress != nil {
				c.mu.Lock()
				done := c.finished
				c.mu.Unlock()
				o.Progress(done, c.copies*c.result.Clients)
			}
		}
	}
}

// A collection gathers what the players found.
type collection struct {
	mu       sync.Mutex
	result   *Result
	groups   map[[2]string]*Group
	copies   int
	ignore   []*regexp.Regexp
	finished int  // players
	reached  bool // one of them got somewhere
	refusal  string
}

func (c *collection) add(p *player, found []replay.Difference) {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := c.result
	c.finished++
	c.reached = c.reached || p.reached
	if p.refusal != "" {
		c.refusal = p.refusal
	}
	r.Expected += p.expected
	r.Came += p.came
	for _, d := range found {
		if c.ignores(&d) {
			r.Ignored++
			continue
		}
		d.Copy, d.Actor = p.copy+1, p.actor.Number
		if len(r.Differences) < maxDifferences {
			r.Differences = append(r.Differences, d)
		} else {
			r.Unlisted++
		}
		key := [2]string{d.Kind, d.What}
		g := c.groups[key]
		if g == nil {
			// Copies hear each other, which the recording could not: what comes more
			// often, and before what, says nothing. A crowd is served later than one, and
			// read later too: how much of that is the server's is a question for a trial.
			g = &Group{Kind: d.Kind, What: d.What, Example: d, Counts: d.Kind != replay.More &&
				d.Kind != replay.Later && d.Kind != replay.Order || c.copies == 1}
			c.groups[key] = g
		}
		g.Times++
	}
}

// ignores reports whether a difference is one of those that may be.
func (c *collection) ignores(d *replay.Difference) bool {
	for _, p := range c.ignore {
		if p.MatchString(d.What) || p.MatchString(d.Recorded) && (d.Now == "" || p.MatchString(d.Now)) ||
			d.Recorded == "" && p.MatchString(d.Now) {
			return true
		}
	}
	return false
}

func (c *collection) sum(late replay.Lateness) {
	r := c.result
	r.Same, r.Compared = true, r.Expected > 0
	for _, g := range c.groups {
		if g.Kind == replay.Later && r.StoodStill > late.Least/4 {
			g.Counts = false // it may have been this machine's doing
		}
		g.Suggests = replay.Suggest(g.Example.Recorded, g.Example.Now)
		r.Groups = append(r.Groups, *g)
		r.Same = r.Same && !g.Counts
	}
	slices.SortFunc(r.Groups, func(a, b Group) int {
		if a.Counts != b.Counts {
			return map[bool]int{true: -1, false: 1}[a.Counts]
		}
		if a.Times != b.Times {
			return b.Times - a.Times
		}
		if a.Kind+a.What < b.Kind+b.What {
			return -1
		}
		return 1
	})
	slices.SortFunc(r.Differences, func(a,
		b replay.Difference) int {
		return (a.Copy-b.Copy)*math.MaxInt16 + a.Actor - b.Actor
	})
}
