// Package headless shows a run without a terminal: plain lines while it goes
// on, a report when it is over.
package headless

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
	"tidepull/internal/trial"
)

// Follow prints a line for each second of a run until it is over; of a long one, for each minute after the first.
func Follow(w io.Writer, r *run.Run) *run.Snapshot {
	t := r.Snapshot().Trial
	fmt.Fprintf(w, "trial %q against %s: %d clients, %v\n", plain.Text(t.Name, 80),
		plain.Text(t.Hide(t.Target.Address), 200), t.Clients(), t.Length())
	words := "in that second"
	if t.Length() > longRun {
		words += ", and after the first minute in that minute"
	}
	fmt.Fprintf(w, "each line: what happened %s | the ledger since the start\n", words)
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for told := 0; ; {
		select {
		case <-r.Done():
			s := r.Snapshot()
			tell(w, s, told, s.Entries.Count(), true)
			return s
		case <-ticker.C:
			s := r.Snapshot()
			told = tell(w, s, told, s.Entries.Count()-1, false) // the last one is not over
		}
	}
}

// lookEvery is how often it is looked whether a second is over.
const lookEvery = 250 * time.Millisecond

// longRun is how long a run may be for a line a second.
const longRun = 10 * time.Minute

// tell prints the seconds from one up to another, and returns the one that is to come next: each is told once, in a
// line of its own or with the rest of its minute.
func tell(w io.Writer, s *run.Snapshot, from, to int, all bool) int {
	for from < to {
		n := 1
		if s.Trial.Length() > longRun && from >= 60 {
			n = 60 - from%60
		}
		if from+n > to {
			if !all {
				break
			}
			n = to - from
		}
		fmt.Fprintln(w, line(s, s.Entries.Between(from, from+n)))
		from += n
	}
	return from
}

// line says what happened in some seconds, one after another, and how the ledger stands.
func line(s *run.Snapshot, entries []*logbook.Entry) string {
	w, err := logbook.Sum(entries, nil)
	if err != nil {
		return err.Error()
	}
	e := entries[len(entries)-1]
	leg := s.Trial.LegAt(time.Duration(e.At) * time.Second)
	if leg == "" || s.Stopped && s.Leg == "" {
		leg = "over"
	}
	at := fmt.Sprintf("%4ds", e.At)
	if len(entries) > 1 {
		at = fmt.Sprintf("%4dm", entries[0].At/60)
	}
	t := &s.Total.Total
	text := fmt.Sprintf("%s %-5s clients %d of %d, said %d, arrived %d, fan-out p50 %s p99 %s, last recipient %s "+
		"| owed %d delivered %d late %d lost %d duplicate %d stray %d",
		at, leg, e.Gauges.Open, e.Gauges.Planned, w.Counts.Sent, w.Counts.Arrivals, us(w.Fanout(), 0.5),
		us(w.Fanout(), 0.99), us(&w.Last, 1),
		t.Owed, t.Delivered, t.Late, t.Lost, t.Duplicate, t.Stray)
	switch why := w.Why.Words(); {
	case why != "" && len(entries) > 1:
		text += fmt.Sprintf("  (%d seconds of it: %s)", w.Overloaded, why)
	case why != "":
		text += "  (" + why + ")"
	}
	return text
}

// Routes says in one line how clients came to the server, and what a delivery took; "" if
// there was one route, a WebSocket.
func Routes(s *run.Snapshot) string {
	c := &s.Total.Counts.Routes
	if len(s.Trial.Target.Routes) < 2 && s.Trial.Target.Route(0).Kind != trial.OverHTTP {
		return ""
	}
	var on []string
	for i, name := range logbook.Transports {
		if c.On[i] > 0 {
			on = append(on, fmt.Sprintf("%s %.3g %%", name, 100*c.ShareOn(i)))
		}
	}
	text := "routes: " + strings.Join(on, ", ")
	if len(s.Trial.Target.Routes) > 1 {
		text += fmt.Sprintf("; %d steps down, %d up, %d tries of a better one failed, %d clients with no route left",
			c.Down, c.Up, c.UpFailed, c.NoneLeft)
	}
	if requests, ok := logbook.FigureNamed("routes.requests_per_delivery").Of(s.Total); ok {
		bytes, _ := logbook.FigureNamed("routes.bytes_per_delivery").Of(s.Total)
		text += fmt.Sprintf("; a delivery took %.3g HTTP requests and %s", requests, units.Bytes(bytes))
	}
	return text
}

// times says how long something took: in the middle, for 99 of 100, and at the most.
func times(h *meter.Hist, most string) string {
	return fmt.Sprintf("p50 %s, p99 %s, the %s %s", us(h, 0.5), us(h, 0.99), most, us(h, 1))
}

// Pulse says in lines what was measured of heartbeats; none if nothing was.
func Pulse(s *run.Snapshot) (lines []string) {
	w := s.Total
	c, h := &w.Counts.Pulse, &w.Times
	if p := s.Trial.Target.Promise; p != nil && p.Server {
		line := fmt.Sprintf("heartbeats: %d of the server, promised every %v: %s; %d missing, %d late, %d early",
			c.Heard, p.Every, times(&h[logbook.BeatInterval], "longest"), c.Missing, c.Late, c.Early)
		if drift, ok := w.Drift(); ok {
			line += "; drift " + units.Signed(drift)
		}
		if b, ok := w.Bunched(); ok {
			line += fmt.Sprintf("; %.0f %% in the fullest twentieth of an interval", 100*b)
		}
		lines = append(lines, line)
	}
	if c.Asked > 0 {
		lines = append(lines, fmt.Sprintf("heartbeats: %d of clients, %d answered, %d not by the next; round trip %s",
			c.Asked, c.Answered, c.Unheard, times(&h[logbook.RoundTrip], "longest")))
	}
	if c.Misbehave > 0 {
		lines = append(lines, fmt.Sprintf("misbehaved: %d clients; %d evicted, %d of them after the deadline, %d not; "+
			"evicted in %s; others told within %s", c.Misbehave, c.Evicted, c.TooLate, c.Kept,
			times(&h[logbook.ToEvict], "longest"), us(&h[logbook.ToTell], 1)))
	}
	if c.Hasty > 0 {
		lines = append(lines, fmt.Sprintf("hasty: %d clients were closed that gave every sign of life they owed",
			c.Hasty))
	}
	return lines
}

// Returns says in lines how clients came back, and what the trial broke; none if nothing
// did break.
func Returns(s *run.Snapshot) (lines []string) {
	w := s.Total
	if c := &w.Counts.Returns; c.Broke > 0 {
		lines = append(lines, fmt.Sprintf("returns: %d connections broke, %d are back, %d gave up; back in %s; "+
			"%d tries: %d accepted, %d refused, %d without an answer, %d failed", c.Broke, c.Back, c.GaveUp+c.StillAway,
			times(&w.Times[logbook.ToReturn], "last"), c.Tries, c.Accepted, c.Refused, c.TimedOut, c.Failed))
	}
	for _, h := range s.Happened {
		line := fmt.Sprintf("fault %q: %s from %s to %s", h.Name, h.Do, units.Duration(h.From), units.Duration(h.To))
		if h.Why != "" {
			line += ", could not be done: " + h.Why
		}
		lines = append(lines, line)
	}
	for _, c := range run.Comebacks(s) {
		lines = append(lines, fmt.Sprintf("after fault %q: %s", c.Fault, c.Words()))
	}
	for i, m := range run.Impacts(s) {
		if i == mostImpacts {
			lines = append(lines, "and more of them: see summary.json")
			break
		}
		lines = append(lines, "impact of "+m.What+" on "+m.Crew+": "+m.Words())
	}
	if c := &w.Counts.Path; c.Clients > 0 {
		line := fmt.Sprintf("path: faults took %v of the loop", w.Path.Round(10*time.Microsecond))
		c.Each(func(name, _ string, n int64) {
			if n > 0 {
				line += fmt.Sprintf(", %s %d", strings.ReplaceAll(name, "_", " "), n)
			}
		})
		lines = append(lines, line)
	}
	if k := s.Kernel; k != nil {
		line := fmt.Sprintf("path, by the kernel: %d changes, within %v of their time; %d packets dropped", k.Orders,
			k.Slowest.Round(100*time.Microsecond), k.Dropped)
		if k.Error != "" {
			line += "; NOT ALL COULD BE DONE: " + k.Error
		}
		lines = append(lines, line)
	}
	sum := run.Summarise(s).Server
	for _, name := range logbook.ServerGauges {
		if says, known := sum.Says[name]; known {
			lines = append(lines, fmt.Sprintf("server: %s, as it says: %s before, %s at most, %s last", name,
				units.Count(int64(says.Before)), units.Count(int64(says.Most)), units.Count(int64(says.Last))))
		}
	}
	if sum.Watched {
		lines = append(lines, fmt.Sprintf("server: memory %s before, %s at most, %s last; open files %d, %d, %d; %s "+
			"of processor time a message that came", units.Bytes(float64(sum.MemoryBefore)),
			units.Bytes(float64(sum.MemoryMost)), units.Bytes(float64(sum.MemoryLast)), sum.FilesBefore, sum.FilesMost,
			sum.FilesLast, units.Micros(sum.CPUPerDelivery)))
	}
	return lines
}

// mostImpacts bounds the impacts that are listed.
const mostImpacts = 12

func us(h *meter.Hist, q float64) string {
	if h.Count() == 0 {
		return "-"
	}
	return units.Duration(h.Quantile(q))
}

// manyPings is how many pings a second, for each client, nobody sends who wants to know whether it is there.
const manyPings = 10

// Report prints how a run ended.
func Report(w io.Writer, s *run.Snapshot) {
	t := &s.Total.Total
	fmt.Fprintf(w, "\nafter %v, %d messages said:\n", s.Elapsed.Round(time.Millisecond), s.Total.Counts.Sent)
	caughtUp := ""
	if t.CaughtUp > 0 {
		caughtUp = fmt.Sprintf(" + caught up %d", t.CaughtUp)
	}
	fmt.Fprintf(w, "  owed %d = delivered %d + late %d%s + lost %d + excused %d\n", t.Owed, t.Delivered, t.Late,
		caughtUp, t.Lost, t.Excused)
	if why := s.Total.Imbalance(); why != "" {
		fmt.Fprintf(w, "  the books do not agree: %s; please report this as a fault of the tool\n", why)
	}
	fmt.Fprintf(w, "  also came: duplicate %d, stray %d, allowed at the edge %d, history %d, overdue %d, foreign %d\n",
		t.Duplicate, t.Stray, t.Allowed, t.Past, t.Overdue, s.Total.Foreign)
	if t.Defects() > 0 {
		fmt.Fprintf(w, "  on top: reordered %d, out of the others' order %d, altered %d\n", t.Reordered, t.Disagreed,
			t.Altered)
	}
	if c := &s.Total.Counts; c.Readings > 0 {
		fmt.Fprintf(w, "  feeds: %d readings, missing %d, repeated %d, backward %d, too old %d; age p99 %s\n",
			c.Readings, c.Gaps, c.Repeats, c.Backward, c.Stale, us(&s.Total.Times[logbook.FeedAge], 0.99))
	}
	f, early := s.Total.Fanout(), s.Total.FanoutEarly()
	both := func(q float64) string { return units.Between(early.Quantile(q), f.Quantile(q)) }
	last := func(q float64) string {
		return units.Between(s.Total.LastEarly().Quantile(q), s.Total.Last.Quantile(q))
	}
	if f.Count() > 0 {
		fmt.Fprintf(w, "  fan-out p50 %s, p90 %s, p99 %s, longest %s; the last of the audience: p50 %s, p99 %s\n",
			both(0.5), both(0.9), both(0.99), both(1), last(0.5), last(0.99))
	}
	if t.MaybeLate > 0 {
		fmt.Fprintf(w, "  of those late, %d may have been in time: they were read together with later ones, or came "+
			"from another machine\n", t.MaybeLate)
	}
	lag := "from the kernel's receive times"
	if !s.KernelTimes {
		lag = "no kernel receive times here: latencies may be too long by the reading lag"
	}
	if text := s.Processes.Across(); text != "" {
		fmt.Fprintln(w, "  machines: "+text)
	}
	fmt.Fprintf(w, "  the tool itself: reading lag p99 %s, schedule lag p99 %s, %v of core time taken from the "+
		"machine, programs waited for a core for up to %s at a time, %d of %d seconds say nothing of the server%s "+
		"(%s)\n", us(&s.Total.Times[logbook.ReadingLag], 0.99), us(&s.Total.Times[logbook.ScheduleLag], 0.99),
		units.Duration(s.Total.Stolen),
		units.Duration(s.Total.Kept), s.Total.Overloaded, s.Total.Seconds, because(s.Total.Why), lag)
	for _, line := range Load(s) {
		fmt.Fprintf(w, "  %s\n", line)
	}
	if s.Total.Times[logbook.PushedBack].Count() > 0 {
		fmt.Fprintf(w, "  scripts: %d turns began later than their time, because of what the script itself waited "+
			"for: p50 %s, longest %s\n", s.Total.Times[logbook.PushedBack].Count(),
			us(&s.Total.Times[logbook.PushedBack], 0.5),
			us(&s.Total.Times[logbook.PushedBack], 1))
	}
	for _, line := range append(Pulse(s), Returns(s)...) {
		fmt.Fprintf(w, "  %s\n", line)
	}
	if text := Routes(s); text != "" {
		fmt.Fprintf(w, "  %s\n", text)
	}
	rate := s.Total.Counts.Pings / int64(max(1, s.Total.Seconds))
	if rate >= manyPings*int64(max(1, s.Total.Most.Open)) {
		fmt.Fprintf(w, "  the server sent %s pings a second, to %s\n", units.Count(rate),
			units.Plural(s.Total.Most.Open, "client"))
	}
	for _, text := range s.Unseen() {
		fmt.Fprintf(w, "  not proven: %s\n", text)
	}
	for _, shared := range s.Shared {
		fmt.Fprintf(w, "  in common: %s\n", plain.Text(shared.Says, 300))
	}
	for _, text := range s.ServerSide.Words() {
		fmt.Fprintf(w, "  server: %s\n", text)
	}
	if verdict, _ := s.Outcome(); verdict != run.Holds || s.ServerSide.Ended != "" {
		for i, line := range s.ServerSide.Last(mostLines) {
			if i == 0 {
				fmt.Fprintf(w, "  server: the last that it wrote:\n")
			}
			fmt.Fprintf(w, "    %s\n", line)
		}
	}
	if names := s.NeverReached(); names != "" {
		fmt.Fprintf(w, "  no client came to: %s\n", names)
	}
	if deaf := s.Deaf(); deaf != "" {
		fmt.Fprintf(w, "  %s\n", deaf)
	}
	for _, reason := range slices.Sorted(maps.Keys(s.Reasons)) {
		fmt.Fprintf(w, "  %d x %s\n", s.Reasons[reason], reason)
	}
	for _, c := range s.Checks() {
		fmt.Fprintf(w, "  check %q (%s): passed %d, failed %d\n", c.Name, c.Kind, c.Held, c.Failed)
	}
	if s.Trial.ClosedLoop {
		fmt.Fprintln(w, "  some of this was a closed loop: it went as fast as the server answered, so its rate is "+
			"not the trial's")
	}
	for i := range s.Alerted {
		fmt.Fprintf(w, "  %s\n", s.Alerted[i].Words())
	}
	for _, r := range s.FinalResults {
		fmt.Fprintf(w, "  final check %q: %s", r.Name, r.Verdict)
		if r.Why != "" {
			fmt.Fprintf(w, " (%s)", r.Why)
		}
		fmt.Fprintln(w)
	}
	findings(w, s)
	limits(w, s) // last, with the verdict: they are what is still on a small screen
	_, why := s.Outcome()
	fmt.Fprintf(w, "verdict: %s (%s)\n", s.Word(), why)
}

// findings prints what is wrong with the server.
func findings(w io.Writer, s *run.Snapshot) {
	for i := range s.Findings {
		f := &s.Findings[i]
		fmt.Fprintf(w, "finding: %s\n  %s\n", f.Name(), f.Says)
		if f.Share != nil {
			fmt.Fprintf(w, "  how often: %s\n", f.Share.Words())
		}
		for _, e := range f.Evidence {
			fmt.Fprintf(w, "  seen: %s\n", e.Says)
		}
		for _, what := range f.RuledOut {
			fmt.Fprintf(w, "  ruled out: %s\n", what)
		}
		fmt.Fprintf(w, "  usually: %s\n  to confirm: %s\n", f.Usually, f.Experiment)
	}
}

// mostLines bounds the server's output in a report.
const mostLines = 8

// limits prints what became of the limits. Implied ones at which nothing happened stand
// together, and a reason that several have is given once.
func limits(w io.Writer, s *run.Snapshot) {
	implied, unproven, given := 0, 0, map[string]bool{}
	for _, j := range s.Judgements {
		quiet := j.Limit.Implied && (j.Measured == 0 || logbook.FigureNamed(j.Limit.Figure).Load())
		switch {
		case quiet && j.Verdict == run.Holds:
			implied++
			continue
		case quiet && j.Verdict == run.NotProven && given[j.Why]:
			unproven++
			continue
		}
		fmt.Fprintf(w, "  %s %q: wanted %s, got %s%s%s: %s", kindOf(&j), j.Limit.Name, j.Wanted(),
			Figure(j.Unit, j.Measured), s.Kinds(&j), j.LeftOut(), j.Verdict)
		if j.Why != "" && !given[j.Why] {
			fmt.Fprintf(w, " (%s)", j.Why)
			given[j.Why] = true
		}
		fmt.Fprintln(w)
		if j.Verdict == run.Broken {
			for _, example := range s.Examples(j.Limit.Figure) {
				fmt.Fprintf(w, "    %s\n", example)
			}
		}
	}
	fmt.Fprintf(w, "  %d implied limits hold\n", implied)
	if unproven > 0 {
		fmt.Fprintf(w, "  %s more measured 0, and are not proven for the same reason\n",
			units.Plural(unproven, "implied limit"))
	}
}

// almostAll is the share of the load from which on nobody asks what is missing.
const almostAll = 0.999

// Load says in lines how much of the planned load there was, and how close together what was to
// happen at one moment came.
func Load(s *run.Snapshot) (lines []string) {
	l := &s.Total.Counts.Load
	if share, ok := l.Offered(); ok {
		line := "load: " + units.Percent(share) + " of what was planned"
		if why := l.Words(); why != "" && share < almostAll {
			line += ": " + why
		}
		lines = append(lines, line)
	}
	if l.AtOnce > 0 {
		lines = append(lines, fmt.Sprintf("at one moment: %s came within 20 ms of theirs, %s later, the last after %s",
			units.Count(l.AtOnce-l.Apart), units.Count(l.Apart), units.Duration(l.Worst)))
	}
	return lines
}

func because(why logbook.Overload) string {
	if words := why.Words(); words != "" {
		return ": " + words
	}
	return ""
}

func kindOf(j *run.Judgement) string {
	if j.Limit.Implied {
		return "implied limit"
	}
	return "limit"
}

// Figure writes a figure in its unit.
func Figure(unit logbook.Unit, v float64) string { return units.Figure(unit == logbook.Duration, v) }
