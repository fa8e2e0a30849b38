// Bench measures the tool against a bare reader and against the stand-in's
// truth, and writes docs/performance.md. Every claim about speed in the project
// comes from here. It runs two things side by side or one after the other in
// the same minutes, and reports their ratio: this is what survives a noisy
// machine.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

const (
	clients = 5000
	window  = 8 * time.Second
)

func main() {
	rounds := flag.Int("rounds", 3, "how often each thing is measured")
	out := flag.String("o", "docs/performance.md", "where the report goes")
	loops := flag.Int("fed", 0, "only feed so many loops from memory, and print the deliveries a second")
	only := flag.String("only", "", "measure this alone, and print it: beside (the engine beside the bare reader), "+
		"screen (beside none), transports, dealt (clients that are dealt out, and more of them)")
	flag.Parse()
	back, own := aside()
	defer back()
	if *rounds < 1 {
		fmt.Fprintf(os.Stderr, "bench: -rounds %d: at least one is needed\n", *rounds)
		os.Exit(2)
	}
	if *loops > 0 {
		perSecond, err := fed(*loops)
		if err != nil {
			back()
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		fmt.Println(perSecond)
		return
	}
	if err := bench(*rounds, *out, *only, own); err != nil {
		back()
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// A bencher knows where things are.
type bencher struct {
	dir    string // for what is thrown away
	tool   string
	reader string
}

func bench(rounds int, out, only string, own bool) error {
	dir, err := os.MkdirTemp("", "tidepull-bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	b := &bencher{dir: dir, tool: filepath.Join(dir, "tidepull"), reader: filepath.Join(dir, "reader")}
	for _, build := range [][]string{{"cc", "-O2", "-o", b.reader, "bench/reader/reader.c"},
		{"go", "build", "-o", b.tool, "./cmd/tidepull"}} {
		if text, err := exec.Command(build[0], build[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w\n%s", strings.Join(build, " "), err, text)
		}
	}
	r := report{own: own, costs: make([]cost, len(ways)), spread: make([][]float64, len(spreads))}
	switch only {
	case "dealt":
		for range rounds {
			if err := b.dealt(&r); err != nil {
				return err
			}
		}
		fmt.Print(r.spreadText())
		return nil
	case "beside":
		return b.ratios(rounds)
	case "screen":
		for range rounds {
			plainly, shown, err := b.screens()
			if err != nil {
				return err
			}
			fmt.Printf("headless %.2f us, with a screen %.2f us a delivery: %.2f\n", plainly, shown, shown/plainly)
		}
		return nil
	case "transports":
		for range rounds {
			if err := b.transports(r.costs); err != nil {
				return err
			}
		}
		if err := b.idle(r.costs); err != nil {
			return err
		}
		fmt.Print(transportsText(r.costs))
		return nil
	case "":
	default:
		return fmt.Errorf("-only %s: it may be beside, screen, transports or dealt", only)
	}
	for round := range rounds {
		fmt.Printf("round %d of %d\n", round+1, rounds)
		if err := b.round(&r); err != nil {
			return err
		}
	}
	for range 2*rounds + 1 {
		if err := r.scaling.measure(); err != nil {
			return fmt.Errorf("fed from memory: %w", err)
		}
	}
	if err := b.memory(&r); err != nil {
		return err
	}
	if err := b.idle(r.costs); err != nil {
		return err
	}
	return os.WriteFile(out, []byte(r.text(rounds)), 0o666)
}

// ratios prints what the engine takes beside the bare reader, round by round. It is the
// quick question after a change of the hot path; the whole report takes a quarter of an hour.
func (b *bencher) ratios(rounds int) error {
	shapes := []struct {
		name string
		load
		ratios []float64
	}{{"one room", plain("-"), nil}, {"rooms of 20", small("-"), nil},
		{"rooms of 20, both saying", alike("-"), nil}}
	for range rounds {
		for i := range shapes {
			s := &shapes[i]
			bare, engine, err := b.beside(s.load)
			if err != nil {
				return fmt.Errorf("%s: %w", s.name, err)
			}
			s.ratios = append(s.ratios, engine/bare)
			fmt.Printf("%s: bare %.2f us, engine %.2f us a delivery: %.2f\n", s.name, bare, engine, engine/bare)
		}
	}
	for _, s := range shapes {
		fmt.Printf("%s: least %.2f, median %.2f, most %.2f\n", s.name, slices.Min(s.ratios), median(s.ratios),
			slices.Max(s.ratios))
	}
	return nil
}
