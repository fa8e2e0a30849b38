// Bench measures the tool against a bare reader and against the stand-in's
// truth, and writes docs/performance.md. Every claim about speed in the project
// comes from here. It runs two things side by side or one after the other in
// the same minutes, and reports their ratio: this is what survives a noisy
// machine.
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
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
	}{{"one room", plain("-"), nil}, {"rooms of 20", small("-"), nil}}
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

// A report holds what each round measured.
type report struct {
	own            bool // in a control group of its own
	one, small     besides
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
	bare, engine, stored []float64
	ratio, storedRatio   []float64 // to what ran beside it
}

// measure measures a load without a store, and with one.
func (s *besides) measure(b *bencher, l func(store string) load) error {
	bare, engine, err := b.beside(l("-"))
	if err != nil {
		return fmt.Errorf("side by side: %w", err)
	}
	bare2, stored, err := b.beside(l(filepath.Join(b.dir, fmt.Sprintf("runs-%d.db", time.Now().UnixNano()))))
	if err != nil {
		return fmt.Errorf("side by side, with a store: %w", err)
	}
	s.bare, s.engine, s.stored = append(s.bare, bare), append(s.engine, engine), append(s.stored, stored)
	s.ratio, s.storedRatio = append(s.ratio, engine/bare), append(s.storedRatio, stored/bare2)
	fmt.Printf("  bare %.2f us, engine %.2f us a delivery: %.2f; bare %.2f, with store %.2f: %.2f\n", bare, engine,
		engine/bare, bare2, stored, stored/bare2)
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

// pinned runs a command on one core, if that can be said.
func pinned(core int, name string, args ...string) *exec.Cmd {
	if path, err := exec.LookPath("taskset"); err == nil && runtime.NumCPU() > 1 {
		return exec.Command(path, append([]string{"-c", strconv.Itoa(core), name}, args...)...)
	}
	return exec.Command(name, args...)
}

// A process is a child that ends with its input.
type process struct {
	cmd   *exec.Cmd
	in    io.Closer
	lines *bufio.Scanner
}

func start(cmd *exec.Cmd) (*process, error) {
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return &process{cmd, in, bufio.NewScanner(out)}, nil
}

func (p *process) end() {
	p.in.Close()
	for p.lines.Scan() { // or it could not write its last lines
	}
	p.cmd.Wait()
}

// waitFor reads lines until one holds a text.
func (p *process) waitFor(text string) (string, error) {
	for p.lines.Scan() {
		if strings.Contains(p.lines.Text(), text) {
			return p.lines.Text(), nil
		}
	}
	return "", fmt.Errorf("it ended before it said %q", text)
}

// board starts a stand-in on the first core.
func (b *bencher) board(more ...string) (*process, string, error) {
	p, err := start(pinned(0, b.tool, append([]string{"standin", "--listen", "127.0.0.1:0", "--end-with-input",
		"--ping-every", "1h", "--records=-1", "--history=-1"}, more...)...))
	if err != nil {
		return nil, "", err
	}
	line, err := p.waitFor("serving ")
	if err != nil {
		return nil, "", err
	}
	_, addr, _ := strings.Cut(line, "://")
	return p, strings.TrimSuffix(addr, "/live"), nil
}

// A load is what a measurement puts on the stand-in.
type load struct {
	way
	clients int           // that listen
	rooms   int           // that they are in, in turn; in each one more speaks
	every   time.Duration // from one message of the one that speaks to the next
	silence time.Duration // before the first
	store   string
	names   string // in those of clients: two engines on one server must not share them
}

// plain is the load of the comparison with the bare reader.
func plain(store string) load {
	return load{way: ways[0], clients: clients, rooms: 1, every: 200 * time.Millisecond, silence: 3 * time.Second,
		store: store}
}

// small is the same number of deliveries in rooms of 20.
func small(store string) load {
	l := plain(store)
	l.rooms = clients / 20
	return l
}

// trialOf writes a trial of a load on the stand-in at an address.
func (b *bencher) trialOf(l load, addr string) (string, error) {
	crew := ""
	if l.clients > 0 {
		crew = fmt.Sprintf("crew \"watchers"+l.names+"\" {\n  clients = %d\n  session = session.watch\n}\n", l.clients)
	}
	// 128 bytes on the wire, as in the design's own measurement.
	source := crew + `
trial "bench" { grace = "5s" }
target "board" {
  ` + strings.ReplaceAll(l.target, "AT", addr) + `
}
session "watch" {
  connect {}
  enter { room = "basin-${n % ` + strconv.Itoa(max(1, l.rooms)) + `}" }
  pause { lasts = "1h" }
}
session "speak" {
  connect {}
  enter { room = "basin-${n % ` + strconv.Itoa(max(1, l.rooms)) + `}" }
  pause { lasts = "` + l.silence.String() + `" }
  repeat {
    every = "` + l.every.String() + `"
    say { body = { kind = "notice", room = room, text = "gauge 3.2 m ${mark}" } }
  }
}
crew "speakers` + l.names + `" {
  clients = ` + strconv.Itoa(max(1, l.rooms)) + `
  session = session.speak
}
tide {
  flood "100%" { over = "5s" }
  slack { lasts = "` + (window + 8*time.Second).String() + `" }
}
`
	path := filepath.Join(b.dir, fmt.Sprintf("bench%s-%d.trial.hcl", l.names, l.clients))
	return path, os.WriteFile(path, []byte(source), 0o666)
}

type truth struct {
	Totals struct {
		Written  float64 `json:"written"`
		Presence float64 `json:"presence"`
	} `json:"totals"`
	Due struct {
		P50 float64 `json:"p50_us"`
		P99 float64 `json:"p99_us"`
	} `json:"from_due"`
}

func askTruth(addr string) (t truth, err error) {
	r, err := http.Get("http://" + addr + "/truth")
	if err != nil {
		return t, err
	}
	defer r.Body.Close()
	return t, json.NewDecoder(r.Body).Decode(&t)
}

// flowing waits until everybody has entered and messages go to all.
func flowing(addr string, members float64) error {
	for last, same := -1.0, 0; same < 2; time.Sleep(500 * time.Millisecond) {
		t, err := askTruth(addr)
		if err != nil {
			return err
		}
		same++
		if t.Totals.Written < 2*members || t.Totals.Presence != last {
			same = 0 // nobody speaks yet, or they are still entering
		}
		last = t.Totals.Presence
	}
	return nil
}

// beside lets the bare reader and the engine sit in the same rooms at the
// same time, on the same core, and measures what CPU each takes for each of
// its deliveries: half of them all.
func (b *bencher) beside(l load) (bare, engine float64, err error) {
	board, addr, err := b.board(l.board...)
	if err != nil {
		return 0, 0, err
	}
	defer board.end()
	_, port, _ := strings.Cut(addr, ":")
	reader, err := start(pinned(1, b.reader, port, strconv.Itoa(l.clients), strconv.Itoa(max(1, l.rooms))))
	if err != nil {
		return 0, 0, err
	}
	defer reader.end()
	if _, err := reader.waitFor("ready"); err != nil {
		return 0, 0, err
	}
	path, err := b.trialOf(l, addr)
	if err != nil {
		return 0, 0, err
	}
	tool, err := start(pinned(1, b.tool, "--store="+l.store, "run", path, "--headless"))
	if err != nil {
		return 0, 0, err
	}
	defer tool.end()
	if err := flowing(addr, float64(2*l.clients)); err != nil {
		return 0, 0, err
	}
	us, err := each(addr, reader.cmd, tool.cmd)
	if err != nil {
		return 0, 0, err
	}
	tool.cmd.Process.Signal(os.Interrupt)
	return us[0], us[1], nil
}

// each measures what CPU some processes take for each of their deliveries over a window, in microseconds: of what the
// stand-in makes each gets as much.
func each(addr string, all ...*exec.Cmd) (us []float64, err error) {
	before, err := askTruth(addr)
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		us = append(us, -cpu(c.Process.Pid))
	}
	time.Sleep(window)
	after, err := askTruth(addr)
	if err != nil {
		return nil, err
	}
	share := (after.Totals.Written - before.Totals.Written) / float64(len(all))
	if share <= 0 {
		return nil, errors.New("nothing was delivered within the window: something else takes the machine's cores")
	}
	for i, c := range all {
		us[i] = (us[i] + cpu(c.Process.Pid)) * 1e6 / share
	}
	return us, nil
}

type summary struct {
	Fanout struct {
		P50 float64 `json:"p50_us"`
		P99 float64 `json:"p99_us"`
	} `json:"fanout"`
	Self struct {
		ReadingLagP99  float64 `json:"reading_lag_p99_us"`
		ScheduleLagP99 float64 `json:"schedule_lag_p99_us"`
	} `json:"self"`
}

// measureTruth runs the engine alone and compares its fan-out with what the
// stand-in knows to have done.
func (b *bencher) measureTruth() (sum summary, t truth, err error) {
	board, addr, err := b.board()
	if err != nil {
		return sum, t, err
	}
	defer board.end()
	path, err := b.trialOf(plain("-"), addr)
	if err != nil {
		return sum, t, err
	}
	engine, err := start(pinned(1, b.tool, "--store=-", "run", path, "--headless", "--out", b.dir))
	if err != nil {
		return sum, t, err
	}
	_, err = engine.waitFor("verdict")
	engine.end()
	if err != nil {
		return sum, t, err
	}
	if t, err = askTruth(addr); err != nil {
		return sum, t, err
	}
	text, err := os.ReadFile(filepath.Join(b.dir, "summary.json"))
	if err == nil {
		err = json.Unmarshal(text, &sum)
	}
	return sum, t, err
}

// memory measures what an idle client costs: the process with many of them
// less the process with few.
func (b *bencher) memory(r *report) error {
	var engine, busy, bare [2]float64
	for i, n := range []int{10, clients} {
		board, addr, err := b.board()
		if err != nil {
			return err
		}
		l := plain("-")
		l.clients, l.silence = n, 10*time.Second
		path, err := b.trialOf(l, addr)
		if err != nil {
			return err
		}
		p, err := start(pinned(1, b.tool, "--store=-", "run", path, "--headless"))
		if err != nil {
			return err
		}
		if _, err := p.waitFor(" 8s "); err != nil {
			return err
		}
		engine[i] = resident(p.cmd.Process.Pid)
		time.Sleep(10 * time.Second)
		busy[i] = resident(p.cmd.Process.Pid)
		p.cmd.Process.Signal(os.Interrupt)
		p.end()
		_, port, _ := strings.Cut(addr, ":")
		q, err := start(pinned(1, b.reader, port, strconv.Itoa(n)))
		if err != nil {
			return err
		}
		if _, err := q.waitFor("ready"); err != nil {
			return err
		}
		bare[i] = resident(q.cmd.Process.Pid)
		q.end()
		board.end()
	}
	r.idle, r.busy, r.bareIdle = (engine[1]-engine[0])/(clients-10), (busy[1]-busy[0])/(clients-10),
		(bare[1]-bare[0])/(clients-10)
	return nil
}

// cpu is the processor time of a process and its children in seconds (proc(5), fields 14, 15).
func cpu(pid int) float64 {
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	sum := 0.0
	if err == nil {
		for _, child := range bytes.Fields(children) {
			n, _ := strconv.Atoi(string(child))
			sum += cpu(n)
		}
	}
	return sum + cpuOf(pid)
}

func cpuOf(pid int) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	f := bytes.Fields(b[bytes.LastIndexByte(b, ')')+1:])
	user, _ := strconv.ParseFloat(string(f[11]), 64)
	system, _ := strconv.ParseFloat(string(f[12]), 64)
	return (user + system) / 100
}

func resident(pid int) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0
	}
	pages, _ := strconv.ParseFloat(string(bytes.Fields(b)[1]), 64)
	return pages * float64(os.Getpagesize())
}

// stolen is the core time taken from the machine so far, in seconds.
func stolen() float64 {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0
	}
	ticks, _ := strconv.ParseFloat(string(bytes.Fields(b)[8]), 64)
	return ticks / 100
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
	p("in each. CPU is that of each whole process, user and system, over %v, by its deliveries.", window)
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
