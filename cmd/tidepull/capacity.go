package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capacity"
	"tidepull/internal/engine"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/report/chart"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

type capacityCommand struct {
	File    string            `arg:"" help:"The trial, a .trial.hcl file."`
	Target  string            `placeholder:"URL" help:"Run against this address instead of the trial's."`
	Set     map[string]string `mapsep:"none" placeholder:"NAME=VALUE" help:"${set}"`
	Vary    string            `placeholder:"NAME" help:"${capacity_vary}"`
	From    float64           `placeholder:"N" help:"${capacity_from}"`
	Most    float64           `placeholder:"N" help:"${capacity_most}"`
	AtLeast float64           `placeholder:"N" help:"${at_least}"`
	Window  time.Duration     `default:"6s" help:"How long the load stays in each window."`
	Windows int               `default:"30" help:"At most so many windows that prove something."`
	Out     string            `placeholder:"DIR" help:"${capacity_out}"`
	spreading
	connecting
	remote
}

// A window is what came of one load.
type window struct {
	Load    float64            `json:"load"`
	Clients int                `json:"clients"`
	Verdict run.Verdict        `json:"verdict"`
	Why     string             `json:"why"`
	Example string             `json:"example"` // of what broke it: who, which message, when; "": none
	Figures map[string]float64 `json:"figures"` // of limits, by their name; microseconds if they are durations
	broken  []run.Judgement
	longest time.Duration // that a message took
	few     bool          // messages were said: it says nothing of latencies
}

// A found capacity, as capacity.json has it.
type foundCapacity struct {
	Trial    string   `json:"trial"`
	Target   string   `json:"target"`
	Of       string   `json:"of"`     // "clients", or the variable that was varied
	At       float64  `json:"at"`     // half of all windows break there; 0: none has
	Low      float64  `json:"low"`    // with 95 % it is more
	High     *float64 `json:"high"`   // with 95 % it is less; null: not known
	Spread   float64  `json:"spread"` // how wide the range is in which some windows break, as a share of the load
	Breaks   string   `json:"breaks"` // the limit that breaks
	Growth   string   `json:"growth"` // how its figure grows
	Next     string   `json:"next"`   // what breaks next, if that is known
	Knee     string   `json:"knee"`   // why it is not known any further: this machine; "" if it is
	Proven   int      `json:"proven"` // windows
	Unproven int      `json:"unproven"`
	Windows  []window `json:"windows"`
}

// mostUnproven is how often in a row a load may prove nothing before it is this machine's own end.
const mostUnproven = 3

// leastMessages is how many a window must have said to say anything of latencies.
const leastMessages = 100

// longestWindow bounds by how much a window is made longer that says too little.
const longestWindow = 30 * time.Second

// Run looks for the load at which a limit breaks.
func (c *capacityCommand) Run(a *app) error {
	t, err := c.load(0, c.Window)
	if err != nil {
		return err
	}
	if err := errors.Join(c.spreading.check(), c.mayRun(t)); err != nil {
		return err
	}
	if c.Out != "" {
		if err := run.TryOut(c.Out); err != nil {
			return err
		}
	}
	plan := capacity.Plan{From: c.From, Most: c.Most, Windows: c.Windows, Whole: c.Vary == ""}
	if plan.From == 0 {
		plan.From = math.Max(8, float64(t.Clients())/8)
		if c.Vary != "" {
			return errors.New("with --vary, --from must say where to begin")
		}
	}
	if plan.Most == 0 {
		plan.Most = 1000 * plan.From
	}
	if plan.From <= 0 || plan.Most < plan.From {
		return fmt.Errorf("--from is %g and --most %g: the first must be more than 0, and no more than the second",
			plan.From, plan.Most)
	}
	f := &foundCapacity{Trial: t.Name, Target: t.Hide(t.Target.Address), Of: "clients"}
	if c.Vary != "" {
		f.Of = c.Vary
	}
	search := capacity.New(plan)
	if err := c.search(a, search, f); err != nil {
		return err
	}
	f.reckon(search)
	fmt.Println(f.Says())
	if c.Out != "" {
		if err := f.write(c.Out); err != nil {
			return err
		}
	}
	switch {
	case c.AtLeast == 0 || f.Low >= c.AtLeast:
		return nil
	case f.High != nil && *f.High < c.AtLeast:
		return &exitError{exitBroken, fmt.Sprintf("it bears less than %s %s", units.Count(int64(c.AtLeast)), f.Of)}
	}
	return &exitError{exitNotProven, fmt.Sprintf("it is not proven to bear %s %s", units.Count(int64(c.AtLeast)), f.Of)}
}

// load reads the trial for a load that stays so long; 0: as it is.
func (c *capacityCommand) load(at float64, length time.Duration) (*trial.Trial, error) {
	o := language.Options{Target: c.Target, Set: map[string]string{}}
	for name, value := range c.Set {
		o.Set[name] = value
	}
	if c.Vary != "" && at > 0 {
		o.Set[c.Vary] = strconv.FormatFloat(at, 'g', -1, 64)
	}
	t, err := language.Load(c.File, o)
	if err != nil || at == 0 {
		return t, err
	}
	shape, clients := trial.Shape{Steady: length}, float64(t.Clients())
	if c.Vary == "" {
		shape.Scale, clients = at/clients, at
	}
	// Who comes too fast breaks what a crowd that is there does not.
	shape.Flood = max(time.Second, time.Duration(clients/400*float64(time.Second)))
	t.Reshape(shape)
	t.Target.Anywhere = c.RemoteOK
	return t, c.redirect(t)
}

// search tries loads until the search is over, or this machine is at its end.
func (c *capacityCommand) search(a *app, s *capacity.Search, f *foundCapacity) error {
	row, length := 0, c.Window
	for load, more := s.Next(); more; load, more = s.Next() {
		t, err := c.load(load, length)
		if err != nil {
			return err
		}
		t.Seed += uint64(len(f.Windows)) // what is random differs from window to window
		w, stopped, err := c.try(a, t, load)
		if err != nil {
			return err
		}
		f.Windows = append(f.Windows, w)
		fmt.Printf("%3d  %s %s  %-10s  %s\n", len(f.Windows), number(load), f.Of, w.Verdict, w.Why)
		if w.Example != "" {
			fmt.Printf("     %s\n", w.Example)
		}
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
			time.Sleep(min(longestWindow, time.Second+2*w.longest))
		}
		s.Add(w.Verdict == run.Broken)
	}
	return nil
}

// try runs the trial once.
func (c *capacityCommand) try(a *app, t *trial.Trial, load float64) (w window, stopped bool, err error) {
	r, err := run.Start(context.Background(), run.Options{Trial: t, Loops: c.Loops, Workers: c.Workers, Log: a.log})
	if err != nil {
		return w, false, err
	}
	stop := onSignals(r, false)
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

// reckon says what the windows come to.
func (f *foundCapacity) reckon(s *capacity.Search) {
	fit := capacity.Of(s.Outcomes())
	f.At, f.Low, f.Spread = fit.At, fit.Low, fit.Spread
	if !math.IsInf(fit.High, 1) {
		f.High = &fit.High
	}
	times := map[string]int{}
	limits := map[string]trial.Limit{}
	for _, w := range f.Windows {
		for _, j := range w.broken {
			times[j.Limit.Name]++
			limits[j.Limit.Name] = j.Limit
			if times[j.Limit.Name] > times[f.Breaks] {
				f.Breaks = j.Limit.Name
			}
		}
	}
	if g, ok := f.growth(f.Breaks); ok {
		f.Growth = fmt.Sprintf("grows with the power %.1f of the %s (%.1f to %.1f)", g.Power, f.Of, g.Low, g.High)
	}
	// What is further from its bound breaks later.
	next := math.Inf(1)
	for name, limit := range limits {
		g, ok := f.growth(name)
		if name == f.Breaks || !ok || limit.Rule != trial.Below && limit.Rule != trial.AtMost {
			continue
		}
		for _, w := range f.Windows {
			if at := g.Reaches(w.Load, w.Figures[name], limit.Value); w.Verdict != run.NotProven && at < next &&
				at > f.At {
				next = at
				f.Next = fmt.Sprintf("%q, which would break at %s and grows with the power %.1f", name, number(at),
					g.Power)
			}
		}
	}
}

// growth is how the figure of a limit grows, over the windows that prove something.
func (f *foundCapacity) growth(limit string) (capacity.Growth, bool) {
	var load, figure []float64
	for _, w := range f.Windows {
		if v := w.Figures[limit]; v > 0 && w.Verdict != run.NotProven {
			load, figure = append(load, w.Load), append(figure, v)
		}
	}
	return capacity.GrowthOf(load, figure)
}

// Says is the result in a few sentences.
func (f *foundCapacity) Says() string {
	var t strings.Builder
	switch {
	case f.Proven == 0:
		fmt.Fprintf(&t, "no window proved anything")
	case f.High == nil:
		fmt.Fprintf(&t, "bears %s %s and more: nothing broke", number(f.Low), f.Of)
	default:
		fmt.Fprintf(&t, "bears %s %s (%s to %s, 95 %%)", number(f.At), f.Of, number(f.Low), number(*f.High))
	}
	fmt.Fprintf(&t, ", by %d windows", f.Proven)
	if f.Unproven > 0 {
		fmt.Fprintf(&t, "; %d more were not proven, and count for nothing", f.Unproven)
	}
	if f.Breaks != "" {
		fmt.Fprintf(&t, "\nwhat breaks: limit %q", f.Breaks)
		if f.Growth != "" {
			fmt.Fprintf(&t, "; its figure %s", f.Growth)
		}
	}
	if f.Next != "" {
		fmt.Fprintf(&t, "\nnext: %s", f.Next)
	}
	if f.Knee != "" {
		fmt.Fprintf(&t, "\nnot known any further: %s", f.Knee)
	}
	return t.String()
}

// number writes a load with three digits that count.
func number(v float64) string {
	if v >= 100 {
		unit := math.Pow(10, math.Floor(math.Log10(v))-2)
		return units.Count(int64(math.Round(v/unit) * unit))
	}
	return strconv.FormatFloat(v, 'g', 3, 64)
}

// write writes capacity.json, capacity.svg and capacity.pdf.
func (f *foundCapacity) write(dir string) error {
	b, err := json.MarshalIndent(f, "", "  ")
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "capacity.json"), append(b, '\n'), 0o600)
	}
	if err != nil {
		return fmt.Errorf("writing the capacity: %w", err)
	}
	for _, format := range []chart.Format{chart.SVG, chart.PDF} {
		file, err := os.OpenFile(filepath.Join(dir, "capacity."+string(format)),
			os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
		if err != nil {
			return fmt.Errorf("writing the capacity: %w", err)
		}
		c := f.chart()
		if err := errors.Join(c.Write(file, format), file.Close()); err != nil {
			return fmt.Errorf("writing the capacity: %w", err)
		}
	}
	return nil
}

// chart draws the probability that a window breaks over the load, with the windows.
func (f *foundCapacity) chart() *chart.Chart {
	broke, held := chart.Series{Name: "broke", Style: chart.Points}, chart.Series{Name: "held", Style: chart.Points}
	least, most := math.Inf(1), 0.0
	c := &chart.Chart{Title: "capacity of " + f.Target, Notes: strings.Split(f.Says(), "\n"),
		X: chart.Axis{Label: f.Of, Log: true, Name: chart.Count}, Y: chart.Axis{Label: "share of windows that break"}}
	for i, w := range f.Windows {
		// Each stands a little apart from the last one, so that none hides another.
		apart := 0.012 * float64(i%5)
		switch w.Verdict {
		case run.Broken:
			broke.X, broke.Y = append(broke.X, w.Load), append(broke.Y, 1-apart)
		case run.Holds:
			held.X, held.Y = append(held.X, w.Load), append(held.Y, apart)
		default:
			continue
		}
		least, most = min(least, w.Load), max(most, w.Load)
	}
	if f.At > 0 {
		curve := chart.Series{Name: "likely to break", Style: chart.Solid}
		for i := range 101 {
			x := least * math.Pow(most/least, float64(i)/100)
			curve.X = append(curve.X, x)
			curve.Y = append(curve.Y, 0.5*math.Erfc(-math.Log(x/f.At)/max(f.Spread, 0.01)/math.Sqrt2))
		}
		c.Series = append(c.Series, curve)
		for name, x := range map[string]float64{"95 %, least": f.Low, "95 %, most": *f.High} {
			c.Series = append(c.Series, chart.Series{Name: name, Style: chart.Dashed, X: []float64{x, x},
				Y: []float64{0, 1}})
		}
	}
	c.Series = append(c.Series, broke, held)
	return c
}
