package export

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/run"
	"tidepull/internal/trial"
)

// snapshot makes a small run by hand, the same each time: two rooms of 3 and 40
// clients, one message a second in each, later ones slower, and one lost.
func snapshot(t *testing.T) *run.Snapshot {
	t.Helper()
	tr := &trial.Trial{Name: "a <small> tide", Prompt: time.Second, Grace: 2 * time.Second,
		Target: trial.Target{Address: "ws://127.0.0.1:7411/live"},
		Crews:  []trial.Crew{{Name: "pilots", Clients: 3}, {Name: "tugs", Clients: 40}},
		Feeds:  []trial.Feed{{Name: "gauge <1>"}},
		Tide: trial.Tide{Legs: []trial.Leg{{Word: "flood", To: 1, Over: 2 * time.Second},
			{Word: "slack", To: 1, Over: 6 * time.Second}}},
		Limits: []trial.Limit{{Name: "prompt", Figure: "fanout.p99", Rule: trial.Below, Value: 1e6},
			{Name: "none lost", Figure: "ledger.lost", Rule: trial.Equals},
			{Name: "soon connected", Figure: "connect.p50", Rule: trial.Below, Value: 1}}}
	book := logbook.NewBook(0, 2)
	l := ledger.New(ledger.Config{Run: 1, Crews: 2, Prompt: tr.Prompt, Grace: tr.Grace, Keep: 10, Sample: 4,
		Spread: func(s ledger.Spread) { book.Second(s.Sheet.Second).Spread(s) }})
	rooms := []ledger.Room{l.Room("lock-1"), l.Room("quay")}
	for i := range 43 {
		crew := uint16(0)
		if i >= 3 {
			crew = 1
		}
		c := l.AddClient(crew)
		l.Ask(c, rooms[crew], 0)
		l.Enter(c, rooms[crew], 0)
	}
	for second := range 8 {
		now := mono.Time(second)*mono.Time(time.Second) + 1e8
		book.Advance(now)
		page := book.Now()
		page.Counts.Routes.On = [logbook.NumTransports]int64{int64(20 + second), 0, 0, int64(12 - second)}
		page.Counts.Returns.Away, page.Counts.Returns.Tries = int64(20*(second%4)), int64(5*second)
		page.Counts.Returns.Accepted = int64(3 * second)
		page.Times[logbook.BeatInterval].Record(2*time.Second + time.Duration(second)*time.Millisecond)
		page.Times[logbook.ToEvict].Record(4 * time.Second)
		page.Counts.Routes.Asked, page.Counts.Routes.Down = int64(30*second), int64(second%3)
		page.Gauges = logbook.Gauges{Planned: tr.Tide.Clients(time.Duration(now), 43), Out: 43,
			Open: min(43, 20*(second+1))}
		page.Health.Span = time.Second
		page.Tells(0, float64(300+7*(second%3)))
		page.Tells(0, 310)
		if second == 5 {
			page.Health.Busy = time.Second
		}
		for k, room := range rooms {
			n := l.Say(ledger.Say{Room: room, Sender: ledger.Client(40 * k), Due: now, Sent: now, Sheet: &page.Sheet})
			page.Counts.Sent++
			from, to := 3*k, 3+40*k
			for c := from; c < to; c++ {
				if second == 4 && c == 7 {
					continue // lost
				}
				at := now + mono.Time(second+1)*mono.Time(100*time.Microsecond)*mono.Time(c-from+1)
				v := l.Arrive(ledger.Arrival{To: ledger.Client(c),
					Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}, At: at, Sheet: &page.Sheet})
				page.Counts.Marked++
				page.Counts.Arrivals++
				page.Delivery(uint16(k), v.Owed, v.Latency, v.Least)
				page.Times[logbook.ReadingLag].Record(20 * time.Microsecond)
			}
			page.Times[logbook.ScheduleLag].Record(50 * time.Microsecond)
		}
	}
	book.Advance(mono.Time(8 * time.Second))
	l.Settle(mono.Never - 1)
	entries, _ := book.Take(true)
	w, err := logbook.Sum(entries, nil)
	if err != nil {
		t.Fatal(err)
	}
	s := &run.Snapshot{Trial: tr, Started: time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC), Elapsed: 8 * time.Second,
		Entries: entries, Total: w, Rooms: []string{ledger.EveryoneName, "lock-1", "quay"}, KernelTimes: true,
		Finished: true, Kept: l.Kept}
	for i := range 43 {
		s.Names = append(s.Names, fmt.Sprintf("client <%d>", i))
	}
	s.Lanes = lanesByHand()
	s.Bodies = []lane.Body{{Number: 9, Text: []byte("gate \x1b[31m turning")}}
	evidence, err := run.Gather(tr.Limits, tr.Grace, entries)
	if err != nil {
		t.Fatal(err)
	}
	s.Judgements = run.Judge(tr.Limits, evidence)
	if w.Imbalance() != "" || w.Total.Lost != 1 || w.Overloaded != 1 {
		t.Fatalf("the run made by hand: %s, %+v, %d", w.Imbalance(), w.Total, w.Overloaded)
	}
	return s
}

// lanesByHand are the lanes of three clients around a lost message, with much
// before it, so that they need more than one page.
func lanesByHand() (all []lane.Record) {
	at := time.Duration(0)
	add := func(after time.Duration, r lane.Record) {
		at += after
		r.At = at
		all = append(all, r)
	}
	ms := time.Millisecond
	for _, c := range []ledger.Client{40, 7, 8} {
		add(ms, lane.Record{What: lane.Opened, Client: c, Peer: -1, Room: -1})
		add(ms, lane.Record{What: lane.Entered, Client: c, Peer: -1, Room: 2})
	}
	for n := range 14 {
		add(100*ms, lane.Record{What: lane.Said, Client: 40, Peer: -1, Room: 2, Number: uint64(n)})
		for _, c := range []ledger.Client{7, 40} {
			add(ms, lane.Record{What: lane.Got, Client: c, Peer: 40, Room: 2, Number: uint64(n), Took: ms})
		}
		what := lane.Record{What: lane.Got, Client: 8, Peer: 40, Room: 2, Number: uint64(n), Took: 2 * ms}
		if n == 9 {
			what = lane.Record{What: lane.Lost, Client: 8, Peer: 40, Room: 2, Number: 9}
		}
		add(ms, what)
	}
	add(time.Second, lane.Record{What: lane.Got, Client: 8, Peer: 1, Room: 1, Number: 77, Fate: ledger.Stray,
		Took: 3 * ms})
	add(ms, lane.Record{What: lane.Beat, Client: 8, Peer: -1, Room: -1})
	add(ms, lane.Record{What: lane.Failed, Client: 8, Peer: -1, Room: -1})
	add(ms, lane.Record{What: lane.Broke, Client: 8, Peer: -1, Room: -1})
	return all
}

func golden(t *testing.T, name string, got []byte) {
	t.Helper()
	path := filepath.Join("testdata", name)
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(path, got, 0o666); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) {
		t.Errorf("%s is not what testdata has; run with UPDATE=1 after a change that is meant, and look at it", name)
	}
}

// TestGolden writes every view in every format: drawings and tables equal the
// golden files byte for byte, PDFs (which hold the time they were made at) by
// their structure.
func TestGolden(t *testing.T) {
	s := snapshot(t)
	for _, view := range drawn {
		for _, format := range Formats {
			var b bytes.Buffer
			r := Request{Run: s, Name: "run 1", Version: "test", View: view}
			if view == "percentiles" {
				r.From, r.To = 2, 6
			}
			if err := Write(&b, r, format); err != nil {
				t.Errorf("%s as %s: %v", view, format, err)
				continue
			}
			if format != "pdf" {
				golden(t, view+"."+format, b.Bytes())
				continue
			}
			text := b.String()
			if !strings.HasPrefix(text, "%PDF-1.") || strings.Count(text, "/Type /Page\n") != 1 ||
				!strings.Contains(text, "/FontFile2") || !strings.Contains(text, "%%EOF") {
				t.Errorf("%s: no PDF of so many pages with its fonts in it", view)
			}
		}
	}
	var whole bytes.Buffer
	if err := Write(&whole, Request{Run: s, View: "lanes", All: true}, "pdf"); err != nil ||
		strings.Count(whole.String(), "/Type /Page\n") < 2 {
		t.Errorf("all of the lanes: %v, %d pages", err, strings.Count(whole.String(), "/Type /Page\n"))
	}
	svg, err := os.ReadFile("testdata/percentiles.svg")
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{"Latency by percentile", "run 1, trial", "window 0:02 to 0:06", "tide pull test",
		"1 of these 4 seconds say nothing of the server"} {
		if !strings.Contains(string(svg), part) {
			t.Errorf("the drawing does not say %q", part)
		}
	}
	// In print the colours of lines are greys, and these are apart.
	greys := []int{}
	for _, c := range slices.Compact(slices.Sorted(slices.Values(regexp.MustCompile(`stroke:#[0-9A-Fa-f]{6}`).
		FindAllString(string(svg), -1)))) {
		var red, green, blue int
		if _, err := fmt.Sscanf(c, "stroke:#%02X%02X%02X", &red, &green, &blue); err != nil {
			t.Fatal(err)
		}
		greys = append(greys, (299*red+587*green+114*blue)/1000)
	}
	slices.Sort(greys)
	if len(greys) < 4 {
		t.Errorf("the drawing has lines of %d colours", len(greys))
	}
	for i := 1; i < len(greys); i++ {
		if greys[i]-greys[i-1] < 15 {
			t.Errorf("lines of lightness %d and %d are the same in print", greys[i-1], greys[i])
		}
	}
}

// drawn are the views that are one drawing.
var drawn = slices.DeleteFunc(slices.Clone(Views), func(view string) bool { return view == "report" })

// meansIll is a name that other programs would take for something else.
const meansIll = "=cmd|' /C x'!A1 \x00\x1b[2J </text><script> & \u202e \ufffe Grüße 波止場 \xff"

// TestMergedRun: a run that is so long that its older seconds are merged says the same as a whole, in every view and
// format; but what is drawn second by second has one row for those that are merged, and says so.
func TestMergedRun(t *testing.T) {
	whole, merged := snapshot(t), snapshot(t)
	coarse, err := logbook.Coarsen(merged.Entries[:5])
	if err != nil {
		t.Fatal(err)
	}
	merged.Entries = append(logbook.Seconds{coarse}, merged.Entries[5:]...)
	if merged.Total, err = logbook.Sum(merged.Entries, nil); err != nil {
		t.Fatal(err)
	}
	written := func(s *run.Snapshot, view, format string) string {
		var b bytes.Buffer
		if err := Write(&b, Request{Run: s, Name: "run 1", Version: "test", View: view}, format); err != nil {
			t.Errorf("%s as %s: %v", view, format, err)
		}
		return b.String()
	}
	for _, view := range drawn {
		for _, format := range Formats {
			a, b := written(whole, view, format), written(merged, view, format)
			switch {
			case format == "pdf":
				if strings.Count(a, "/Type /Page\n") != strings.Count(b, "/Type /Page\n") {
					t.Errorf("%s as PDF has other pages", view)
				}
			case !slices.Contains(bySecond, view):
				if a != b {
					t.Errorf("%s as %s is another:\n%.300s\nmerged\n%.300s", view, format, a, b)
				}
			case format == "csv" && strings.Count(a, "\n") != strings.Count(b, "\n")+4:
				t.Errorf("%s as %s has %d lines, merged %d", view, format, strings.Count(a, "\n"), strings.Count(b,
					"\n"))
			case format == "json" && !strings.Contains(b, "is by minute"):
				t.Errorf("%s as %s does not say that seconds are merged", view, format)
			}
		}
	}
	var results [2][]string
	for i, s := range []*run.Snapshot{whole, merged} {
		dir := t.TempDir()
		if err := Results(dir, s); err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"summary.json", "junit.xml", "seconds.csv"} {
			b, err := os.ReadFile(filepath.Join(dir, name))
			if err != nil {
				t.Fatal(err)
			}
			results[i] = append(results[i], string(b))
		}
	}
	if results[0][0] != results[1][0] || results[0][1] != results[1][1] {
		t.Errorf("the summary is another, or the results of tests")
	}
	rows, err := csv.NewReader(strings.NewReader(results[1][2])).ReadAll()
	exact, err2 := csv.NewReader(strings.NewReader(results[0][2])).ReadAll()
	if err != nil || err2 != nil || len(rows) != len(exact)-4 {
		t.Fatalf("seconds.csv has %d rows, and %d: %v, %v", len(rows), len(exact), err, err2)
	}
	column := func(rows [][]string, name string) (sum int) {
		for _, row := range rows[1:] {
			n, _ := strconv.Atoi(row[slices.Index(rows[0], name)])
			sum += n
		}
		return sum
	}
	for _, name := range []string{"said", "arrived", "owed", "delivered", "lost", "seconds"} {
		if a, b := column(rows, name), column(exact, name); a != b {
			t.Errorf("%s is %d, exactly %d", name, a, b)
		}
	}
	if !slices.Equal(rows[2], exact[6]) {
		t.Errorf("a second that is not merged: %v, exactly %v", rows[2], exact[6])
	}
}

func TestLedgerAddsUp(t *testing.T) {
	var b bytes.Buffer
	if err := Write(&b, Request{Run: snapshot(t), View: "ledger"}, "csv"); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&b).ReadAll()
	if err != nil || len(rows) != 3 {
		t.Fatalf("%v, %v", rows, err)
	}
	for _, r := range rows[1:] {
		n := func(i int) int { v, _ := strconv.Atoi(r[i]); return v }
		if n(4) == 0 || n(4) != n(5)+n(6)+n(7)+n(8)+n(9) {
			t.Errorf("does not add up: %v", r)
		}
	}
}

func TestBadRequests(t *testing.T) {
	s := snapshot(t)
	for says, r := range map[string]Request{
		`no view "tides"`:                      {Run: s, View: "tides"},
		"is not within the run's 9 seconds":    {Run: s, View: "tide", From: 9, To: 10},
		"5..3 is not within":                   {Run: s, View: "tide", From: 5, To: 3},
		`no format "png"; there are svg, pdf,`: {Run: s, View: "tide"},
	} {
		format := "svg"
		if strings.Contains(says, "png") {
			format = "png"
		}
		if err := Write(io.Discard, r, format); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want %q", err, says)
		}
	}
}

// TestNothingMeasured draws windows in which nothing, or one thing, happened.
func TestNothingMeasured(t *testing.T) {
	s := snapshot(t)
	for _, view := range drawn {
		for _, format := range Formats {
			if err := Write(io.Discard, Request{Run: s, View: view, From: 8, To: 9}, format); err != nil {
				t.Errorf("%s as %s of an empty second: %v", view, format, err)
			}
			if err := Write(io.Discard, Request{Run: s, View: view, From: 0, To: 1}, format); err != nil {
				t.Errorf("%s as %s of one second: %v", view, format, err)
			}
		}
	}
}

// TestResults writes the files for a build pipeline and reads them as such a
// pipeline would.
func TestResults(t *testing.T) {
	dir := t.TempDir()
	s := snapshot(t)
	s.FinalResults = []run.FinalResult{{Name: "members", Verdict: run.Holds},
		{Name: "what is kept", Verdict: run.Broken, Why: "3 < 4"}}
	if err := Results(dir, s); err != nil {
		t.Fatal(err)
	}
	read := func(name string) []byte {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	var junit suite
	if err := xml.Unmarshal(read("junit.xml"), &junit); err != nil || junit.Tests != 5 || junit.Failures != 2 ||
		junit.Cases[4].Name != "final check: what is kept" || junit.Cases[4].Failure.Text != "3 < 4" ||
		junit.Cases[3].Failure != nil || junit.Skipped != 1 || junit.Cases[1].Failure == nil ||
		junit.Name != "a <small> tide" {
		t.Errorf("%+v, %v", junit, err)
	}
	rows, err := csv.NewReader(bytes.NewReader(read("seconds.csv"))).ReadAll()
	if err != nil || len(rows) != 10 || rows[5][9] != "1" || rows[6][23] != "true" {
		t.Errorf("%v, %v", rows, err)
	}
	log := hdrhistogram.NewHistogramLogReader(bytes.NewReader(read("latency.hlog")))
	n, last := int64(0), int64(0)
	for {
		h, err := log.NextIntervalHistogram()
		if err != nil {
			t.Fatal(err)
		}
		if h == nil {
			break
		}
		n += h.TotalCount()
		last = max(last, h.Max())
	}
	if f := s.Total.Fanout(); n != int64(f.Count()) || float64(last) < 0.998*float64(f.Max()) ||
		float64(last) > 1.002*float64(f.Max()) {
		t.Errorf("the log has %d latencies up to %d ns, the run %d up to %v", n, last, f.Count(), f.Max())
	}
}

func TestMetrics(t *testing.T) {
	s := snapshot(t)
	stop, err := Metrics("127.0.0.1:17399", func() *run.Snapshot { return s })
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	r, err := http.Get("http://127.0.0.1:17399/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range []string{`tidepull_clients{state="open"} 43`, "tidepull_ledger_lost_total 1",
		"tidepull_messages_sent_total 16", `tidepull_fanout_seconds_count 343`} {
		if !strings.Contains(string(b), line+"\n") {
			t.Errorf("no line %q in\n%s", line, b)
		}
	}
	if _, err := Metrics("127.0.0.1:17399", nil); err == nil {
		t.Error("an address that is taken is not refused")
	}
}

// TestHostileTexts: whatever clients, rooms and servers are called, drawings
// parse, tables hold no formulas and nothing turns text round.
func TestHostileTexts(t *testing.T) {
	hostile := meansIll
	s := snapshot(t)
	tr := *s.Trial
	tr.Name = hostile
	tr.Crews = slices.Clone(tr.Crews)
	tr.Crews[0].Name = hostile
	s.Trial, s.Rooms, s.Names = &tr, slices.Clone(s.Rooms), slices.Clone(s.Names)
	for i := range s.Rooms {
		s.Rooms[i] = hostile
	}
	for i := range s.Names {
		s.Names[i] = hostile
	}
	s.FinalResults = []run.FinalResult{{Name: hostile, Verdict: run.Broken, Why: hostile}}
	for _, view := range drawn {
		for _, format := range Formats {
			var b bytes.Buffer
			if err := Write(&b, Request{Run: s, View: view, Name: hostile}, format); err != nil {
				t.Errorf("%s as %s: %v", view, format, err)
			}
			switch format {
			case "svg":
				checkXML(t, view, &b)
			case "csv":
				rows, err := csv.NewReader(&b).ReadAll()
				if err != nil {
					t.Errorf("%s: %v", view, err)
				}
				for _, row := range rows {
					for _, cell := range row {
						if strings.HasPrefix(cell, "=") || strings.ContainsAny(cell, "\x00\x1b\u202e") {
							t.Errorf("%s: a cell %q", view, cell)
						}
					}
				}
			case "pdf":
				if !strings.Contains(b.String(), "/ToUnicode") {
					t.Errorf("%s: a PDF without Unicode", view)
				}
			}
		}
	}
	var b bytes.Buffer
	if err := JUnit(&b, s); err != nil || strings.ContainsAny(b.String(), "\u202e\x1b\x00") {
		t.Errorf("%v: %q", err, b.String())
	}
	checkXML(t, "junit", &b)
	if got := safeName("run 3: a/b\x1b", "lanes", 2, 9, "svg",
		func(p string) bool { return p == "tidepull-run-3-a-b-lanes-2-9s.svg" }); got != "tidepull-run-3-a-b-lan"+
		"es-2-9s-2.svg" {
		t.Errorf("a second export is %s", got)
	}
}

func checkXML(t *testing.T, what string, r io.Reader) {
	t.Helper()
	for d := xml.NewDecoder(r); ; {
		if _, err := d.Token(); err == io.EOF {
			return
		} else if err != nil {
			t.Errorf("%s does not parse: %v", what, err)
			return
		}
	}
}
