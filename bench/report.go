package main

import (
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"
)

// A report holds what each round measured.
type report struct {
	own            bool // in a control group of its own
	one, small     besides
	alike          besides   // without a store alone
	screen         besides   // bare: headless; engine: with a screen
	errP50, errP99 []float64 // the tool's fan-out less the truth, microseconds
	p50, p99       []float64 // the truth, microseconds
	lag, sendLag   []float64 // reading lag and schedule lag p99
	stolen         []float64 // share of the machine
	idle, busy     float64   // bytes a client
	bareIdle       float64
	scaling        scaling
	costs          []cost      // by transport
	spread         [][]float64 // by spreads and round
	growth         [][]float64 // by round and growths
}

// besides are microseconds of CPU a delivery of two things at the same time, by round.
type besides struct {
	bare, engine       []float64
	ratio, storedRatio []float64 // to what ran beside it
}

// measure measures a load without a store, and with one.
func (s *besides) measure(b *bencher, l func(store string) load) error {
	if err := s.measureOne(b, l("-")); err != nil {
		return fmt.Errorf("side by side: %w", err)
	}
	bare, stored, err := b.beside(l(filepath.Join(b.dir, fmt.Sprintf("runs-%d.db", time.Now().UnixNano()))))
	if err != nil {
		return fmt.Errorf("side by side, with a store: %w", err)
	}
	s.storedRatio = append(s.storedRatio, stored/bare)
	fmt.Printf("  bare %.2f us, with store %.2f us a delivery: %.2f\n", bare, stored, stored/bare)
	return nil
}

// measureOne measures a load as it is.
func (s *besides) measureOne(b *bencher, l load) error {
	bare, engine, err := b.beside(l)
	if err != nil {
		return err
	}
	s.bare, s.engine, s.ratio = append(s.bare, bare), append(s.engine, engine), append(s.ratio, engine/bare)
	fmt.Printf("  bare %.2f us, engine %.2f us a delivery: %.2f\n", bare, engine, engine/bare)
	return nil
}

// round measures the engine beside the bare reader in both shapes, a screen beside none, and then the engine alone
// against the stand-in's truth.
func (b *bencher) round(r *report) error {
	before := stolen()
	began := time.Now()
	if err := r.one.measure(b, plain); err != nil {
		return err
	}
	if err := r.small.measure(b, small); err != nil {
		return fmt.Errorf("rooms of 20: %w", err)
	}
	if err := r.alike.measureOne(b, alike("-")); err != nil {
		return fmt.Errorf("rooms of 20, both saying: %w", err)
	}
	plainly, shown, err := b.screens()
	if err != nil {
		return fmt.Errorf("a screen beside none: %w", err)
	}
	r.screen.bare, r.screen.engine = append(r.screen.bare, plainly), append(r.screen.engine, shown)
	r.screen.ratio = append(r.screen.ratio, shown/plainly)
	sum, truth, err := b.measureTruth()
	if err != nil {
		return fmt.Errorf("the engine alone: %w", err)
	}
	r.p50, r.p99 = append(r.p50, truth.Due.P50), append(r.p99, truth.Due.P99)
	r.errP50, r.errP99 = append(r.errP50, sum.Fanout.P50-truth.Due.P50), append(r.errP99, sum.Fanout.P99-truth.Due.P99)
	r.lag, r.sendLag = append(r.lag, sum.Self.ReadingLagP99), append(r.sendLag, sum.Self.ScheduleLagP99)
	r.stolen = append(r.stolen, (stolen()-before)/time.Since(began).Seconds()/float64(runtime.NumCPU()))
	fmt.Printf("  a screen beside none: %.2f; fan-out p50 %+.0f us, p99 %+.0f us of the truth\n", shown/plainly,
		sum.Fanout.P50-truth.Due.P50, sum.Fanout.P99-truth.Due.P99)
	if err := b.dealt(r); err != nil {
		return err
	}
	return b.transports(r.costs)
}

// dealt measures clients that are dealt out, and more of them.
func (b *bencher) dealt(r *report) error {
	for i, s := range spreads {
		ratio, err := b.spread(s.flags)
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		r.spread[i] = append(r.spread[i], ratio)
		fmt.Printf("  %s / one loop: %.2f\n", s.name, ratio)
	}
	us, err := b.growth()
	if err != nil {
		return fmt.Errorf("growth: %w", err)
	}
	r.growth = append(r.growth, us)
	fmt.Printf("  growth over %v clients: %s us a delivery\n", growths, list(us, "%.2f"))
	return nil
}

func median(v []float64) float64 {
	s := slices.Sorted(slices.Values(v))
	return s[len(s)/2]
}

func list(v []float64, format string) string {
	parts := make([]string, len(v))
	for i, x := range v {
		parts[i] = fmt.Sprintf(format, x)
	}
	return strings.Join(parts, ", ")
}

func ratios(a, b []float64) []float64 {
	out := make([]float64, len(a))
	for i := range a {
		out[i] = a[i] / b[i]
	}
	return out
}

// apart says whether what was measured had the cores to itself.
func apart(own bool) string {
	if own {
		return " It ran in a control\ngroup of its own, to which other work on the machine gave way."
	}
	return " Other work on the\nmachine had the same right to its cores: control groups take root."
}

func (r *report) text(rounds int) string {
	var t strings.Builder
	p := func(format string, a ...any) { fmt.Fprintf(&t, format+"\n", a...) }
	row := func(name, format string, v []float64) {
		p("| %s | %s | "+strings.ReplaceAll(format, "+", "")+" |", name, list(v, format), median(v))
	}
	p("# Performance\n")
	p("Written by `make bench` on %s (%s/%s, %d cores, Go %s), %d rounds, during which",
		time.Now().Format("2006-01-02"), runtime.GOOS, runtime.GOARCH, runtime.NumCPU(),
		strings.TrimPrefix(runtime.Version(), "go"), rounds)
	p("%.0f %% of the machine's core time was taken away by what it runs on.%s\n", 100*median(r.stolen), apart(r.own))
	p("The stand-in serves its rooms from the first core. On the second sit, at the same")
	p("time and in the same rooms, a bare reader in C with %d clients that only counts", clients)
	p("frames, and the engine with %d and all its accounting. In one room five messages a", clients)
	p("second go to all; in rooms of 20 (and as many of the bare reader's) it is five a second")
	p("in each, all said by the engine's clients; both saying: each has rooms of its own, and says as much in them.")
	p("CPU is that of each whole process, user and system, over %v, by its deliveries.", window)
	p("With a screen: two engines side by side with %d clients each, of which one draws the", screenClients)
	p("Watch view on a terminal of 160 columns.\n")
	p("| | each round | median |\n| --- | --- | --- |")
	for _, s := range []struct {
		name string
		*besides
	}{{"one room", &r.one}, {"rooms of 20", &r.small}} {
		row(s.name+": bare reader, CPU a delivery, us", "%.2f", s.bare)
		row(s.name+": engine, CPU a delivery, us", "%.2f", s.engine)
		row("**"+s.name+": engine / bare reader**", "%.2f", s.ratio)
		row(s.name+": engine with store / bare reader", "%.2f", s.storedRatio)
		row("**"+s.name+": with store / without**", "%.2f", ratios(s.storedRatio, s.ratio))
	}
	row("rooms of 20, both saying: bare client, CPU a delivery, us", "%.2f", r.alike.bare)
	row("rooms of 20, both saying: engine, CPU a delivery, us", "%.2f", r.alike.engine)
	row("**rooms of 20, both saying: engine / bare client**", "%.2f", r.alike.ratio)
	row("**with a screen / without**", "%.2f", r.screen.ratio)
	p("\nThe engine alone with %d clients, against what the stand-in knows:\n", clients)
	p("| | each round | median |\n| --- | --- | --- |")
	row("truth: p50 from due time to the server's write, us", "%.0f", r.p50)
	row("truth: p99, us", "%.0f", r.p99)
	row("**the tool's fan-out p50 less the truth's, us**", "%+.0f", r.errP50)
	row("**the tool's fan-out p99 less the truth's, us**", "%+.0f", r.errP99)
	row("the tool's reading lag p99, us, not part of the above", "%.0f", r.lag)
	row("the tool's schedule lag p99, us", "%.0f", r.sendLag)
	p("\nThe truth ends when the server's write returns, the tool's latency when the bytes")
	p("are in the recipient's kernel, which on loopback is inside that write. Both keep")
	p("percentiles to 0.1 %% of the value, so a difference of 0 means \"within that\".\n")
	million := func(v []float64) (out []float64) {
		for _, x := range v {
			out = append(out, x/1e6)
		}
		return out
	}
	p("Several loops, fed from memory: 4016 clients over lines of text in one room; 16 of them")
	p("say a message as soon as they have heard their last; there is no kernel and no server,")
	p("only the tool's own work, with all its accounting. Two processes that do so side by")
	p("side, knowing nothing of each other, are what the machine's cores give.\n")
	p("| | each round | median |\n| --- | --- | --- |")
	row("one loop: million deliveries a second", "%.2f", million(r.scaling.one))
	row("two loops, one account", "%.2f", million(r.scaling.two))
	row("two processes", "%.2f", million(r.scaling.apart))
	row("**two loops / one** (at least 1.7 is wanted)", "%.2f", ratios(r.scaling.two, r.scaling.one))
	row("two processes / one loop", "%.2f", ratios(r.scaling.apart, r.scaling.one))
	row("**two loops / two processes**", "%.2f", ratios(r.scaling.two, r.scaling.apart))
	p("")
	p("Memory of an idle client: **%.1f KB** in the engine (at most 2 is wanted), %.1f KB in", r.idle/1000,
		r.bareIdle/1000)
	p("the bare reader: resident memory with %d clients less that with 10. After 5 messages", clients)
	p("a second to all of them for some time: %.1f KB, for the ledger and what the lanes view", r.busy/1000)
	p("would need; both are bounded.")
	return t.String() + r.spreadText() + transportsText(r.costs)
}
