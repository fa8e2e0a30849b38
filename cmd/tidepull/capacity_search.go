package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capacity"
	"tidepull/internal/engine"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	screen "tidepull/internal/tui/capacity"
)

// A capacitySearch is a search for a capacity under way. One goroutine does it (search); what others may look at is
// behind mu.
type capacitySearch struct {
	command *capacityCommand
	app     *app
	plan    *capacity.Search
	found   *foundCapacity
	tell    io.Writer // a line for each window; nil: nobody
	done    chan struct{}
	err     error // once done

	stopped context.Context // ends when the search is asked to
	stop    context.CancelFunc

	mu    sync.Mutex
	state screen.State
	run   *run.Run // the window under way, or nil
}

func newCapacitySearch(c *capacityCommand, a *app, s *capacity.Search, f *foundCapacity) *capacitySearch {
	h := &capacitySearch{command: c, app: a, plan: s, found: f, done: make(chan struct{}),
		state: screen.State{Target: f.Target, Of: f.Of}}
	h.stopped, h.stop = context.WithCancel(context.Background())
	return h
}

// State implements tui.Search.
func (h *capacitySearch) State() *screen.State {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.state
	if h.run != nil {
		s.Run = h.run.Snapshot()
	}
	return &s
}

// Stop implements tui.Search.
func (h *capacitySearch) Stop() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.stop()
	if h.run != nil {
		h.run.Stop()
	}
}

// search tries loads until the search is over, is stopped, or this machine is at its end.
func (h *capacitySearch) search() {
	defer close(h.done)
	h.err = h.tryAll()
	h.mu.Lock()
	defer h.mu.Unlock()
	h.run, h.state.Over = nil, true
	h.learn()
	if h.err != nil {
		h.state.Says = strings.Split(h.err.Error(), "\n")
	}
}

// learn shows what is known by now.
func (h *capacitySearch) learn() {
	fit := h.found.fit
	h.state.Fit = &fit
	h.state.Says = strings.Split(h.found.Says(), "\n")
}

func (h *capacitySearch) tryAll() error {
	c, f := h.command, h.found
	row, length := 0, c.Window
	for load, more := h.plan.Next(); more; load, more = h.plan.Next() {
		t, err := c.load(load, length)
		if err != nil {
			return err
		}
		t.Seed += uint64(len(f.Windows)) // what is random differs from window to window
		w, stopped, err := h.try(t, load)
		if err != nil {
			return err
		}
		f.Windows = append(f.Windows, w)
		h.show(&w)
		switch {
		case stopped:
			f.Knee = "it was stopped"
			return nil
		case w.Verdict == run.NotProven:
			f.Unproven++
			if w.few && length < longestWindow {
				length = min(2*length, longestWindow)
				continue
			}
			if row++; row == mostUnproven {
				f.Knee = "beyond it this machine proves nothing: " + w.Why
				return nil
			}
			continue
		}
		row, length = 0, c.Window
		f.Proven++
		if w.Verdict == run.Broken { // it has yet to work through what the last window left it
			select {
			case <-time.After(min(longestWindow, time.Second+2*w.longest)):
			case <-h.stopped.Done():
			}
		}
		h.plan.Add(w.Verdict == run.Broken)
		f.reckon(h.plan)
		h.mu.Lock()
		h.learn()
		h.mu.Unlock()
	}
	return nil
}

// show tells of a window that is over.
func (h *capacitySearch) show(w *window) {
	h.mu.Lock()
	// Who looks at the state has the tries up to where they ended.
	h.state.Tries = append(h.state.Tries, screen.Try{Load: w.Load, Verdict: w.Verdict, Why: w.Why, Example: w.Example})
	h.run = nil
	h.mu.Unlock()
	if h.tell == nil {
		return
	}
	fmt.Fprintf(h.tell, "%3d  %s %s  %-10s  %s\n", len(h.found.Windows), units.ThreeDigits(w.Load), h.found.Of,
		w.Verdict,
		w.Why)
	if w.Example != "" {
		fmt.Fprintf(h.tell, "     %s\n", w.Example)
	}
}

// try runs the trial once.
func (h *capacitySearch) try(t *trial.Trial, load float64) (w window, stopped bool, err error) {
	h.mu.Lock()
	if h.stopped.Err() != nil {
		h.mu.Unlock()
		return window{Load: load, Verdict: run.NotProven, Why: "it was stopped"}, true, nil
	}
	r, err := run.Start(context.Background(), run.Options{Trial: t, Loops: h.command.Loops, Workers: h.command.Workers,
		Log: h.app.log})
	if err != nil {
		h.mu.Unlock()
		return w, false, err
	}
	h.run, h.state.Load = r, load
	h.mu.Unlock()
	stop := onSignals(r, h.tell == nil)
	last := r.Wait()
	stop()
	var unreachable *engine.Unreachable
	if errors.As(last.Err, &unreachable) {
		return w, false, notReached(last.Err)
	}
	w = window{Load: load, Clients: t.Clients(), Figures: map[string]float64{}}
	w.Verdict, w.Why = last.Outcome()
	if took, ok := logbook.FigureNamed("fanout.max").Of(last.Total); ok {
		w.longest = time.Duration(took * float64(time.Microsecond))
	}
	for _, j := range last.Judgements {
		w.Figures[j.Limit.Name] = j.Measured
		if j.Verdict == run.Broken {
			w.broken = append(w.broken, j)
			if all := last.Examples(j.Limit.Figure); len(all) > 0 && w.Example == "" {
				w.Example = plain.Text(all[0], 200)
			}
		}
	}
	if w.Verdict == run.Holds && last.Total.Counts.Sent < leastMessages {
		w.few = true
		w.Verdict, w.Why = run.NotProven, fmt.Sprintf("only %d messages were said: it takes a longer window",
			last.Total.Counts.Sent)
	}
	return w, last.Stopped, nil
}
