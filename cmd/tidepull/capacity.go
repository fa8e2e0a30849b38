package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/capacity"
	"tidepull/internal/engine/machine"
	"tidepull/internal/report/chart"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/tui"
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

	Headless bool `help:"Print a line for each window, and no screen."`
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
	Trial    string       `json:"trial"`
	Target   string       `json:"target"`
	Of       string       `json:"of"`     // "clients", or the variable that was varied
	At       float64      `json:"at"`     // half of all windows break there; 0: none has, or all have
	Low      float64      `json:"low"`    // with 95 % it is more; 0: no window held
	High     *float64     `json:"high"`   // with 95 % it is less; null: not known
	Spread   float64      `json:"spread"` // how wide the range is in which some windows break, as a share of the load
	Breaks   string       `json:"breaks"` // the limit that breaks
	Growth   string       `json:"growth"` // how its figure grows
	Next     string       `json:"next"`   // what breaks next, if that is known
	Knee     string       `json:"knee"`   // why it is not known any further: this machine; "" if it is
	Proven   int          `json:"proven"` // windows
	Unproven int          `json:"unproven"`
	Windows  []window     `json:"windows"`
	fit      capacity.Fit // that the figures are of
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
	f := &foundCapacity{Trial: t.Name, Target: t.Shown().Target.Address, Of: "clients"}
	if c.Vary != "" {
		f.Of = c.Vary
	}
	h := newCapacitySearch(c, a, capacity.New(plan), f)
	if !c.Headless && onTerminal() {
		go h.search()
		if err := tui.ShowCapacity(h); err != nil {
			h.Stop()
			<-h.done
			return err
		}
		<-h.done
	} else {
		h.tell = os.Stdout
		h.search()
	}
	if h.err != nil {
		return h.err
	}
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
	t.Alerts = nil // that windows break is what is looked for
	t.Target.Anywhere = c.RemoteOK
	return t, c.redirect(t)
}

// reckon says what the windows come to.
func (f *foundCapacity) reckon(s *capacity.Search) {
	f.fit = capacity.Of(s.Outcomes())
	f.Breaks, f.Growth, f.Next, f.High = "", "", "", nil
	f.At, f.Low, f.Spread = f.fit.At, f.fit.Low, f.fit.Spread
	if high := f.fit.High; !math.IsInf(high, 1) {
		f.High = &high
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
				f.Next = fmt.Sprintf("%q, which would break at %s and grows with the power %.1f", name,
					units.ThreeDigits(at),
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
		fmt.Fprintf(&t, "none of %s proved anything", units.Plural(f.Unproven, "window"))
	case f.Low == 0:
		fmt.Fprintf(&t, "bears less than %s %s (95 %%): no window held", units.ThreeDigits(*f.High), f.Of)
	case f.High == nil:
		fmt.Fprintf(&t, "bears %s %s and more: nothing broke", units.ThreeDigits(f.Low), f.Of)
	default:
		fmt.Fprintf(&t, "bears %s %s (%s to %s, 95 %%)", units.ThreeDigits(f.At), f.Of, units.ThreeDigits(f.Low),
			units.ThreeDigits(*f.High))
	}
	if f.Proven > 0 {
		fmt.Fprintf(&t, ", by %s", units.Plural(f.Proven, "window"))
		if f.Unproven > 0 {
			fmt.Fprintf(&t, "; besides, %s proved nothing", units.Plural(f.Unproven, "window"))
		}
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

// write writes capacity.json, capacity.svg and capacity.pdf.
func (f *foundCapacity) write(dir string) error {
	c := f.chart()
	for name, write := range map[string]func(io.Writer) error{
		"json": func(w io.Writer) error {
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			return e.Encode(f)
		},
		"svg": func(w io.Writer) error { return c.Write(w, chart.SVG) },
		"pdf": func(w io.Writer) error { return c.Write(w, chart.PDF) },
	} {
		file, err := machine.CreatePrivate(filepath.Join(dir, "capacity."+name))
		if err == nil {
			err = errors.Join(write(file), file.Close())
		}
		if err != nil {
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
			curve.X, curve.Y = append(curve.X, x), append(curve.Y, f.fit.Breaks(x))
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
