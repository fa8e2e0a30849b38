package logbook

import (
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
	"tidepull/internal/measure/meter"
)

const second = mono.Time(time.Second)

// fill plays random traffic through a ledger into a book: two rooms, three
// crews, some messages lost, doubled or late.
func fill(t *testing.T, seed uint64, seconds int) *Book {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 1))
	b := NewBook(0, 3)
	l := ledger.New(ledger.Config{Run: 1, Crews: 3, Prompt: 50 * time.Millisecond, Grace: 3 * time.Second,
		Spread: func(s ledger.Spread) { b.Second(s.Sheet.Second).Spread(s) }})
	rooms := []ledger.Room{l.Room("lock-1"), l.Room("lock-2")}
	for i := range 30 {
		c := l.AddClient(uint16(i % 3))
		room := rooms[min(i/20, 1)]
		l.Ask(c, room, 0)
		l.Enter(c, room, 0)
	}
	for now := mono.Time(0); now < mono.Time(seconds)*second; now += second / 5 {
		b.Advance(now)
		l.Settle(now)
		room := rooms[r.IntN(2)]
		due := max(0, now-mono.Time(r.IntN(300))*mono.Time(time.Millisecond))
		page := b.At(due)
		n := l.Say(ledger.Say{Room: room, Sender: ledger.Client(r.IntN(30)), Due: due, Sent: now, Sheet: &page.Sheet})
		page.Counts.Sent++
		page.Times[ScheduleLag].Record(now.Sub(due))
		for c := range ledger.Client(30) {
			if (c >= 20) != (room == rooms[1]) || r.IntN(50) == 0 {
				continue
			}
			for range 1 + r.IntN(20)/19 {
				at := now + mono.Time(r.IntN(90))*mono.Time(time.Millisecond)
				v := l.Arrive(ledger.Arrival{To: c, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: at,
					Sheet: &b.Now().Sheet})
				b.Now().Counts.Marked++
				if v.Fate == ledger.Delivered || v.Fate == ledger.Late {
					b.Second(v.Sheet.Second).Delivery(uint16(c%3), v.Owed, v.Latency, v.Least)
				}
			}
		}
	}
	b.Advance(mono.Time(seconds) * second)
	l.Settle(mono.Never - 1)
	return b
}

func entriesOf(b *Book) []*Entry {
	closed, _ := b.Take(true)
	return closed
}

func sum(t *testing.T, entries []*Entry) *Window {
	t.Helper()
	w, err := Sum(entries, nil)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// TestWindowsAddUp: a run cut anywhere into windows gives the same as the whole,
// and a clone is independent.
func TestWindowsAddUp(t *testing.T) {
	entries := entriesOf(fill(t, 1, 20))
	if len(entries) != 21 {
		t.Fatalf("%d seconds", len(entries))
	}
	whole := sum(t, entries)
	if whole.Imbalance() != "" || whole.Total.Owed == 0 || whole.Total.Lost == 0 || whole.Total.Duplicate == 0 ||
		whole.Total.Late == 0 || whole.Total.Open() != 0 {
		t.Fatalf("%s %+v", whole.Imbalance(), whole.Total)
	}
	r := rand.New(rand.NewPCG(2, 2))
	for range 50 {
		cut := r.IntN(len(entries) + 1)
		w := sum(t, entries[:cut])
		clone := w.Clone()
		before := w.Total
		for _, e := range entries[cut:] {
			if err := clone.Add(e); err != nil {
				t.Fatal(err)
			}
		}
		if w.Total != before {
			t.Fatal("adding to a clone changed what it was cloned from")
		}
		for _, name := range FigureNames() {
			a, okA := FigureNamed(name).Of(whole)
			b, okB := FigureNamed(name).Of(clone)
			if a != b || okA != okB {
				t.Errorf("cut at %d, %s is %v; of the whole it is %v", cut, name, b, a)
			}
		}
		if !reflect.DeepEqual(whole.ByRoom(), clone.ByRoom()) || !reflect.DeepEqual(whole.ByCrew(), clone.ByCrew()) {
			t.Errorf("cut at %d, the balance sheets differ", cut)
		}
	}
	for _, lines := range [][]Line{whole.ByRoom(), whole.ByCrew(),
		whole.By(func(c ledger.Cell) int { return int(c.Kind) })} {
		var all ledger.Tally
		for _, l := range lines {
			all.Add(&l.Tally)
		}
		if all != whole.Total {
			t.Errorf("lines add up to %+v, not %+v", all, whole.Total)
		}
	}
}

// TestImbalance takes one thing after the other out of the books.
func TestImbalance(t *testing.T) {
	entries := entriesOf(fill(t, 3, 5))
	for want, spoil := range map[string]func(*Window){
		"":                         func(*Window) {},
		"more came than was owed":  func(w *Window) { w.Total.Owed-- },
		"arrivals are missing":     func(w *Window) { w.Counts.Marked++ },
		"latencies are missing":    func(w *Window) { w.Total.Delivered--; w.Total.Duplicate++ },
		"messages are missing":     func(w *Window) { w.Counts.Sent++ },
		"arrivals are missing (2)": func(w *Window) { w.Total.Stray-- },
	} {
		w := sum(t, entries)
		spoil(w)
		if got := w.Imbalance(); !strings.HasPrefix(want, got) || (got == "") != (want == "") {
			t.Errorf("spoiled so that %q, it says %q", want, got)
		}
	}
}

// TestTakeWaitsForSettlement: a second leaves the book only once nothing can be
// booked on it, and until then can be looked at.
func TestTakeWaitsForSettlement(t *testing.T) {
	b := NewBook(0, 1)
	l := ledger.New(ledger.Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: 2 * time.Second})
	room := l.Room("quay")
	c := l.AddClient(0)
	l.Ask(c, room, 0)
	l.Enter(c, room, 0)
	l.Say(ledger.Say{Room: room, Sender: c, Sheet: &b.Now().Sheet})
	closedOver := 0
	b.Close = func(*Page) { closedOver++ }
	b.Advance(second + 1)
	closed, open := b.Take(false)
	if len(closed) != 0 || len(open) != 2 || open[0].Settled || open[0].Cells[0].Tally.Owed != 1 || closedOver != 1 {
		t.Fatalf("%d closed, %d open, %d over", len(closed), len(open), closedOver)
	}
	b.Advance(3 * second)
	l.Settle(2 * second)
	closed, open = b.Take(false)
	if len(closed) != 3 || len(open) != 1 || !closed[0].Settled || closed[0].Cells[0].Tally.Lost != 1 ||
		open[0].At != 3 {
		t.Fatalf("%d closed, %d open", len(closed), len(open))
	}
	if p := b.At(0); p.At != 3 {
		t.Errorf("what belongs to a second that is gone goes to second %d, want the nearest, 3", p.At)
	}
}

// TestJudge: when a second counts as one in which the tool was the bottleneck.
func TestJudge(t *testing.T) {
	for name, tc := range map[string]struct {
		make func(*Page)
		want Overload
	}{
		"idle":            {func(*Page) {}, 0},
		"busy, with room": {func(p *Page) { p.Health.Busy = 900 * time.Millisecond }, 0},
		"full":            {func(p *Page) { p.Health.Busy = 990 * time.Millisecond }, LoopFull},
		"one late send": {func(p *Page) {
			record(&p.Times[ScheduleLag], 99, time.Millisecond, 1,
				300*time.Millisecond)
		},
			0},
		"many late sends": {func(p *Page) {
			record(&p.Times[ScheduleLag], 80, time.Millisecond, 20,
				30*time.Millisecond)
		},
			SendsLate},
		"one late read": {func(p *Page) { record(&p.Times[ReadingLag], 99, time.Millisecond, 1, time.Second) }, 0},
		"many late reads": {func(p *Page) {
			record(&p.Times[ReadingLag], 10, time.Millisecond, 90,
				200*time.Millisecond)
		},
			ReadingLate},
		"a burst is usual": {func(p *Page) {
			record(&p.Times[ReadingLag], 10, time.Millisecond, 90,
				40*time.Millisecond)
		}, 0},
	} {
		p := NewPage(0, 1)
		p.Health.Span = time.Second
		tc.make(p)
		p.Judge()
		if p.Health.Overload != tc.want {
			t.Errorf("%s: %b, want %b", name, p.Health.Overload, tc.want)
		}
	}
}

func record(h interface{ Record(time.Duration) }, n int, d time.Duration, m int, e time.Duration) {
	for range n {
		h.Record(d)
	}
	for range m {
		h.Record(e)
	}
}

// TestFit holds the fitted line against points made around a known one, and
// the sums of parts against the whole.
func TestFit(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	misses := 0
	for range 200 {
		var whole, a, b Fit
		for i := range 400 {
			x := float64(1 + r.IntN(5000))
			y := 300 + 6.5*x + r.NormFloat64()*200
			whole.Point(x, y)
			if i%3 == 0 {
				a.Point(x, y)
			} else {
				b.Point(x, y)
			}
		}
		a.Add(b)
		line, ok := whole.Line()
		again, _ := a.Line()
		if !ok || math.Abs(line.Slope-again.Slope) > 1e-9 || math.Abs(line.Base-again.Base) > 1e-5 {
			t.Fatalf("%+v, of the parts %+v", line, again)
		}
		if math.Abs(line.Slope-6.5) > line.Error {
			misses++
		}
		if math.Abs(line.Base-300) > 100 {
			t.Errorf("base %v", line.Base)
		}
	}
	if misses > 25 { // 5 % of 200 are 10
		t.Errorf("the true slope was outside the 95 %% interval %d times of 200", misses)
	}
	var one Fit
	for range 10 {
		one.Point(50, 7)
	}
	if _, ok := one.Line(); ok {
		t.Error("a line through points of one size")
	}
	var two Fit
	two.Point(1, 1)
	two.Point(2, 2)
	if _, ok := two.Line(); ok {
		t.Error("a line through two points, with an uncertainty of nothing")
	}
}

func TestFigures(t *testing.T) {
	w := sum(t, entriesOf(fill(t, 5, 6)))
	for _, name := range FigureNames() {
		f := FigureNamed(name)
		if f.Doc == "" || f.Name != name || f.Self() != (strings.HasPrefix(name, "self.") || f.Load()) {
			t.Errorf("figure %+v", f)
		}
		if _, ok := f.Of(&Window{}); ok != (f.Self() && !f.Load() && f.Unit == Count) {
			t.Errorf("%s of nothing counts as measured: %v", name, ok)
		}
	}
	p50, _ := FigureNamed("fanout.p50").Of(w)
	p99, _ := FigureNamed("fanout.p99").Of(w)
	longest, _ := FigureNamed("fanout.max").Of(w)
	if !(0 < p50 && p50 < p99 && p99 <= longest) || longest != Micros(w.Fanout().Max()) {
		t.Errorf("p50 %v, p99 %v, max %v", p50, p99, longest)
	}
	if FigureNamed("fanout.p98") != nil {
		t.Error("there is a figure fanout.p98")
	}
}

// TestCoarsen: merged seconds sum up to what they did, and are found by each of them.
func TestCoarsen(t *testing.T) {
	entries := entriesOf(fill(t, 3, 12))
	entries[4].Health.Overload = LoopFull
	coarse, err := Coarsen(entries[2:8])
	if err != nil {
		t.Fatal(err)
	}
	all := Seconds(append(append(append([]*Entry{}, entries[:2]...), coarse), entries[8:]...))
	a, b := sum(t, entries), sum(t, all)
	if a.Total != b.Total || a.Counts != b.Counts || a.Fit != b.Fit || a.Seconds != b.Seconds ||
		len(a.Cells) != len(b.Cells) || a.Fanout().Latencies() != b.Fanout().Latencies() ||
		a.First.Latencies() != b.First.Latencies() || a.Most != b.Most || a.Busy != b.Busy ||
		a.Overloaded != b.Overloaded || b.Overloaded == 0 || a.Why != b.Why ||
		a.Times[ToConnect].Latencies() != b.Times[ToConnect].Latencies() ||
		a.Times[ReadingLag].Latencies() != b.Times[ReadingLag].Latencies() {
		t.Errorf("%+v\n%+v", a.Total, b.Total)
	}
	if all.Count() != len(entries) || all.Of(-1) != nil || all.Of(len(entries)) != nil {
		t.Errorf("%d seconds of %d, and one before or behind them", all.Count(), len(entries))
	}
	for from := range entries {
		want := entries[from]
		if from >= 2 && from < 8 {
			want = coarse
		}
		if all.Of(from) != want {
			t.Errorf("second %d is in the entry of %d", from, all.Of(from).At)
		}
		for to := range len(entries) + 3 {
			some, n := all.Between(from, to), 0
			for _, e := range some {
				n += e.Seconds()
				if e.At >= to || e.At+e.Seconds() <= from {
					t.Errorf("%d to %d: second %d", from, to, e.At)
				}
			}
			if n < min(to, len(entries))-from {
				t.Errorf("%d to %d: %d seconds", from, to, n)
			}
		}
	}
}

// TestPacked: a packed second is the same in every sum, and when it is unpacked; and it is smaller.
func TestPacked(t *testing.T) {
	entries := entriesOf(fill(t, 4, 12))
	light := make([]*Entry, len(entries))
	for i, e := range entries {
		p, err := e.Packed()
		if err != nil {
			t.Fatal(err)
		}
		light[i] = p
		whole, err := p.Whole()
		if err != nil || !whole.Same(e) || whole.Settled != e.Settled {
			t.Errorf("second %d is not the same: %v", i, err)
		}
		lost, odd := p.Wrong()
		if l, o := e.Wrong(); lost != l || odd != o || p.Owed() != e.Owed() || p.HasLate() != e.HasLate() ||
			p.Cells != nil || p.Latency != nil || p.Fit != e.Fit {
			t.Errorf("second %d: %v %v %d", i, lost, odd, p.Owed())
		}
	}
	a, b := sum(t, entries), sum(t, light)
	if !reflect.DeepEqual(a.Cells, b.Cells) || a.Counts != b.Counts ||
		a.Fanout().Latencies() != b.Fanout().Latencies() ||
		a.SentLate != b.SentLate || a.Last.Latencies() != b.Last.Latencies() {
		t.Errorf("%+v\n%+v", a.Total, b.Total)
	}
	merged, err := Coarsen(light[2:8])
	plain, err2 := Coarsen(entries[2:8])
	if err != nil || err2 != nil || !merged.Same(plain) {
		t.Errorf("merged: %v %v", err, err2)
	}
}

// TestCountersAreWords: all that a counter is made of is a whole number of 64 bits, as addUp has it;
// and a window has the sum of each.
func TestCountersAreWords(t *testing.T) {
	var words func(name string, of reflect.Type) int
	words = func(name string, of reflect.Type) (n int) {
		switch of.Kind() {
		case reflect.Int64:
			return 1
		case reflect.Array:
			return of.Len() * words(name, of.Elem())
		case reflect.Struct:
			for f := range of.NumField() {
				n += words(name+"."+of.Field(f).Name, of.Field(f).Type)
			}
			return n
		}
		t.Errorf("%s is of type %v", name, of)
		return 0
	}
	of := reflect.TypeFor[Counts]()
	if n := words("Counts", of); uintptr(8*n) != of.Size() {
		t.Errorf("%d words in %d bytes", n, of.Size())
	}
	one := Counts{Stale: 3, Pulse: PulseCounts{Cycle: 4, Slots: [PulseSlots]int64{5: 7}}, Doubt: DoubtCounts{GaveUp: 1},
		Load: LoadCounts{Worst: 9, Late: 2}}
	all := one
	all.add(&one)
	want := Counts{Stale: 6, Pulse: PulseCounts{Cycle: 4, Slots: [PulseSlots]int64{5: 14}},
		Doubt: DoubtCounts{GaveUp: 2},
		Load:  LoadCounts{Worst: 9, Late: 4}}
	if all != want {
		t.Errorf("%+v", all)
	}
}

// TestSure: what may be the tool's doing is taken off what is certain; a delivery that may have come in
// time is none of the late ones at the other end.
func TestSure(t *testing.T) {
	w := &Window{}
	w.Counts.Broken, w.Counts.Doubt.Broken = 5, 2
	w.Counts.Pulse.Hasty, w.Counts.Doubt.Hasty = 3, 3
	w.Total.Late, w.Total.MaybeLate, w.Total.Delivered = 7, 4, 10
	w.Counts.WaitsFailed, w.Counts.Doubt.Failed, w.Checks = 4, 1, []CheckCount{{Failed: 6}} // 2 came and were wrong
	for name, want := range map[string]float64{"clients.broken": 3, "pulse.hasty": 0, "clients.refused": 0,
		"checks.failed": 5} {
		if f := FigureNamed(name); f.sure == nil || f.sure(w, w) != want {
			t.Errorf("of %s, %v are certain", name, f.sure(w, w))
		}
	}
	for name, want := range map[string]float64{"ledger.late": 3, "ledger.delivered": 14} {
		if f := FigureNamed(name); f.other(w) != want {
			t.Errorf("the other end of %s is %v, want %v", name, f.other(w), want)
		}
	}
	var p Page
	p.Check(1, true)
	p.Check(1, false)
	p.Check(1, false)
	if len(p.Checks) != 2 || p.Checks[1] != (CheckCount{1, 2}) {
		t.Errorf("checks are %+v", p.Checks)
	}
}

// TestSame: two copies of a second are the same until anything at all in one of them is something else.
func TestSame(t *testing.T) {
	hist := func() meter.Packed {
		var h meter.Hist
		h.Record(time.Millisecond)
		return h.Pack()
	}
	// differs changes one field of a copy, and reports whether it knows how to.
	var differs func(v reflect.Value) bool
	differs = func(v reflect.Value) bool {
		switch v.Interface().(type) {
		case meter.Packed:
			v.Set(reflect.ValueOf(hist()))
			return true
		case *Early:
			v.Set(reflect.ValueOf(&Early{Soon: EarlyPart{Last: hist()}}))
			return true
		}
		switch v.Kind() {
		case reflect.Int, reflect.Int64, reflect.Int32:
			v.SetInt(7)
		case reflect.Uint8, reflect.Uint32, reflect.Uint64, reflect.Uint16:
			v.SetUint(7)
		case reflect.Float64:
			v.SetFloat(7)
		case reflect.Bool:
			v.SetBool(true)
		case reflect.Slice:
			v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		case reflect.Pointer:
			v.Set(reflect.New(v.Type().Elem()))
		case reflect.Array:
			return differs(v.Index(v.Len() - 1))
		case reflect.Struct:
			return v.NumField() > 0 && v.Field(0).CanSet() && differs(v.Field(0))
		default:
			return false
		}
		return true
	}
	if !(&Entry{}).Same(&Entry{Settled: true}) {
		t.Error("that nothing more is booked in one makes it another")
	}
	tried := 0
	for _, part := range []bool{false, true} {
		of := reflect.TypeFor[Entry]()
		if part {
			of = reflect.TypeFor[Part]()
		}
		for i := range of.NumField() {
			e := &Entry{}
			v := reflect.ValueOf(e).Elem()
			if part {
				v = v.FieldByName("Part")
			}
			name := of.Field(i).Name
			if name == "Settled" || name == "Part" || !v.Field(i).CanSet() || !differs(v.Field(i)) {
				continue
			}
			if tried++; e.Same(&Entry{}) || (&Entry{}).Same(e) {
				t.Errorf("with another %s two are the same", name)
			}
		}
	}
	if tried < 14 {
		t.Errorf("only %d fields were tried", tried)
	}
}

// TestSomePulse: anything about heartbeats makes their figures ones that were measured.
func TestSomePulse(t *testing.T) {
	if (&PulseCounts{}).some() {
		t.Error("nothing is something")
	}
	for name, c := range map[string]PulseCounts{"heard": {Heard: 1}, "missing": {Missing: 1}, "asked": {Asked: 1},
		"misbehaves": {Misbehave: 1}, "hasty": {Hasty: 1}} {
		if !c.some() {
			t.Errorf("%s is nothing", name)
		}
	}
}

// TestSpares: a second says something of a latency up to what the tool may have waited, and no further.
func TestSpares(t *testing.T) {
	const kept = 5 * time.Millisecond
	for name, tc := range map[string]struct {
		health Health
		want   bool
	}{
		"calm":                    {Health{Kept: kept}, true},
		"kept longer, crowded":    {Health{Kept: kept + 1, Crowded: time.Millisecond}, false},
		"kept longer, calm":       {Health{Kept: MaxScheduleLag}, true},
		"kept too long":           {Health{Kept: MaxScheduleLag + 1}, false},
		"no core, and not long":   {Health{Overload: NoCore, Watched: true, Kept: kept, Starved: maxStarved}, true},
		"no core, longer":         {Health{Overload: NoCore, Watched: true, Kept: kept + 1}, false},
		"no core, for long":       {Health{Overload: NoCore, Watched: true, Starved: maxStarved + 1}, false},
		"no core, nobody watched": {Health{Overload: NoCore, Kept: kept}, false},
		"the loop was full":       {Health{Overload: LoopFull, Watched: true}, false},
	} {
		if got := tc.health.Spares(kept); got != tc.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// TestClone: what is added to a copy does not change what it is a copy of.
// TestMayLose: a machine that is somewhat busy is no excuse for what never came; one on which something stood still, or
// had more to do than it was given time for, is.
func TestMayLose(t *testing.T) {
	const grace = 3 * time.Second
	busy := Health{Span: time.Second, Watched: true, Overload: NoCore, Kept: 120 * time.Millisecond,
		Stolen: 200 * time.Millisecond}
	for name, tc := range map[string]struct {
		change func(*Health)
		want   bool
	}{
		"somewhat busy":       {func(*Health) {}, false},
		"sent late":           {func(h *Health) { h.Overload = SendsLate | ReadingLate | LoopFull }, false},
		"nobody watches":      {func(h *Health) { h.Watched = false }, true},
		"stood still":         {func(h *Health) { h.Kept = 600 * time.Millisecond }, true},
		"the loop stood":      {func(h *Health) { h.Waiting = NoCore }, true},
		"a thread starves":    {func(h *Health) { h.Starved = 300 * time.Millisecond }, true},
		"much is taken away":  {func(h *Health) { h.Stolen = 600 * time.Millisecond }, true},
		"stopped":             {func(h *Health) { h.Overload |= Stopped }, true},
		"no file was left":    {func(h *Health) { h.Overload = NoFile }, true},
		"not for a sixth":     {func(h *Health) { h.Kept = 400 * time.Millisecond }, false},
		"nothing is the case": {func(h *Health) { *h = Health{Span: time.Second} }, false},
	} {
		h := busy
		tc.change(&h)
		if got := h.MayLose(grace); got != tc.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	if !busy.MayLose(500 * time.Millisecond) {
		t.Error("a sixth of a short grace time was waited for, and it is no excuse")
	}
}

func TestClone(t *testing.T) {
	w := &Window{Cells: map[ledger.Cell]ledger.Tally{{Room: 1}: {Owed: 3}}}
	c := w.Clone()
	c.Cells[ledger.Cell{Room: 1}] = ledger.Tally{Owed: 9}
	c.Cells[ledger.Cell{Room: 2}] = ledger.Tally{}
	if len(w.Cells) != 1 || w.Cells[ledger.Cell{Room: 1}].Owed != 3 {
		t.Errorf("the first has %+v", w.Cells)
	}
}
