package clocks

import (
	"context"
	"errors"
	"time"

	"tidepull/internal/engine/machine"
)

// How often another machine's clock is asked for.
const (
	firstAsks  = 100 // at once, before anything depends on it
	firstEvery = 2 * time.Millisecond
	askEvery   = 20 * time.Millisecond
	leastWait  = 50 * time.Millisecond // for an answer
	mostWait   = time.Second
	firstTime  = 5 * time.Second
)

// errSilent is why nothing is known of another machine's clock.
var errSilent = errors.New("the clock of the machine that leads the run does not answer")

// A patience is how long an answer is waited for: some round trips, so that one that is lost costs little.
type patience time.Duration

func (p *patience) ask(ask func(within time.Duration) (Exchange, bool)) (Exchange, bool) {
	within := time.Duration(*p)
	if within == 0 {
		within = leastWait
	}
	x, ok := ask(within)
	if ok {
		within = 4 * x.RoundTrip()
	} else {
		within *= 2
	}
	*p = patience(max(leastWait, min(within, mostWait)))
	return x, ok
}

// First asks often, until the other clock is known well.
func First(ctx context.Context, ask func(within time.Duration) (Exchange, bool)) (*Bounds, error) {
	b, heard, waits := &Bounds{}, 0, patience(0)
	for end := time.Now().Add(firstTime); heard < firstAsks && time.Now().Before(end) && ctx.Err() == nil; {
		if x, ok := waits.ask(ask); ok && b.Take(x) {
			heard++
		}
		time.Sleep(firstEvery)
	}
	if heard == 0 {
		return nil, errors.Join(errSilent, ctx.Err())
	}
	return b, nil
}

// Watch keeps asking, and tells courses, the first of them at once, until the context ends or the clocks jump apart.
// The courses are by the right clock of this machine; skew is that of what ask uses.
func Watch(ctx context.Context, b *Bounds, ask func(within time.Duration) (Exchange, bool), skew Skew,
	tell func(Course) error) error {
	ctx, end := context.WithCancel(ctx)
	heard, over := make(chan Exchange), make(chan struct{})
	go func() {
		defer close(over)
		for waits := patience(0); ctx.Err() == nil; {
			if x, ok := waits.ask(ask); ok {
				select {
				case heard <- x:
				case <-ctx.Done():
				}
			}
			time.Sleep(askEvery)
		}
	}()
	defer func() {
		end()
		<-over
	}()
	tick := time.NewTicker(courseEvery)
	defer tick.Stop()
	for last := (*Course)(nil); ; {
		next, err := b.Next(last, skew.Of(machine.Own()))
		if err == nil {
			last = next
			err = tell(skew.Undo(*next))
		}
		if err != nil {
			return err
		}
		for waits := true; waits; {
			select {
			case <-ctx.Done():
				return nil
			case x := <-heard:
				b.Take(x)
			case <-tick.C:
				waits = false
			}
		}
	}
}
