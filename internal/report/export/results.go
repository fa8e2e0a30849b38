package export

import (
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/HdrHistogram/hdrhistogram-go"

	"tidepull/internal/base/plain"
	"tidepull/internal/engine/machine"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/report/headless"
	"tidepull/internal/run"
)

// Results writes a run into a folder for a build pipeline: summary.json,
// junit.xml, seconds.csv and latency.hlog.
func Results(dir string, s *run.Snapshot) error {
	sum := run.Summarise(s)
	if err := sum.Write(dir); err != nil {
		return err
	}
	for name, write := range map[string]func(io.Writer, *run.Snapshot) error{"junit.xml": JUnit, "seconds.csv": Seconds,
		"latency.hlog": hdrLog} {
		if err := writeFile(filepath.Join(dir, name), s, write); err != nil {
			return fmt.Errorf("writing %s: %w", name, err)
		}
	}
	return nil
}

func writeFile(path string, s *run.Snapshot, write func(io.Writer, *run.Snapshot) error) error {
	f, err := machine.CreatePrivate(path)
	if err != nil {
		return err
	}
	if err := write(f, s); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

type suite struct {
	XMLName  xml.Name `xml:"testsuite"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Errors   int      `xml:"errors,attr"`
	Skipped  int      `xml:"skipped,attr"`
	Time     string   `xml:"time,attr"`
	Stamp    string   `xml:"timestamp,attr"`
	Cases    []test   `xml:"testcase"`
	Errs     string   `xml:"system-err,omitempty"` // the server's end
}

type test struct {
	Name    string   `xml:"name,attr"`
	Class   string   `xml:"classname,attr"`
	Failure *message `xml:"failure,omitempty"`
	Error   *message `xml:"error,omitempty"`
	Skipped *message `xml:"skipped,omitempty"`
	Output  string   `xml:"system-out"`
}

type message struct {
	Text string `xml:"message,attr"`
	Body string `xml:",chardata"`
}

// mostLines bounds the server's output in JUnit's report.
const mostLines = 40

// JUnit writes a test case for each limit and each final check: broken ones have
// failed, those not proven are skipped. A run that is not proven as a whole is a test case in error: a job is not green
// for a run that says nothing.
func JUnit(w io.Writer, s *run.Snapshot) error {
	trialName := plain.Text(s.Trial.Name, 0)
	out := suite{Name: trialName, Tests: len(s.Judgements) + len(s.FinalResults),
		Time: fmt.Sprintf("%.3f", s.Elapsed.Seconds()), Stamp: s.Started.UTC().Format("2006-01-02T15:04:05")}
	for _, j := range s.Judgements {
		text := fmt.Sprintf("wanted %s, got %s%s", j.Wanted(), headless.Figure(j.Unit, j.Measured), s.Kinds(&j))
		name := plain.Text(j.Limit.Name, 0)
		if j.Limit.Implied {
			name = "implied: " + name
		}
		t := test{Name: name, Class: trialName, Output: text}
		switch j.Verdict {
		case run.Broken:
			out.Failures++
			if says := s.SharedBy(j.Limit.Figure); says != "" {
				text += "; " + plain.Text(says, 300)
			}
			body := s.Examples(j.Limit.Figure)
			if f := s.FindingOf(j.Limit.Figure); f != nil {
				body = append([]string{f.Name() + ": " + f.Says, f.Usually}, body...)
			}
			t.Failure = &message{text, strings.Join(body, "\n")}
		case run.NotProven:
			out.Skipped++
			t.Skipped = &message{Text: "not proven: " + j.Why}
		}
		out.Cases = append(out.Cases, t)
	}
	for _, r := range s.FinalResults {
		t := test{Name: "final check: " + plain.Text(r.Name, 0), Class: trialName, Output: plain.Text(r.Why, 0)}
		switch r.Verdict {
		case run.Broken:
			out.Failures++
			t.Failure = &message{Text: plain.Text(r.Why, 0)}
		case run.NotProven:
			out.Skipped++
			t.Skipped = &message{Text: "not proven: " + plain.Text(r.Why, 0)}
		}
		out.Cases = append(out.Cases, t)
	}
	if verdict, why := s.Outcome(); verdict == run.NotProven {
		out.Errors++
		out.Tests++
		out.Cases = append(out.Cases, test{Name: "the run proves something", Class: trialName,
			Error: &message{Text: "not proven: " + plain.Text(why, 0)}})
	}
	if out.Failures+out.Errors > 0 {
		out.Errs = strings.Join(append(s.ServerSide.Words(), s.ServerSide.Last(mostLines)...), "\n")
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(out); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// Seconds writes the figures of each second as CSV. Times are microseconds. Of a long run, the seconds that are older
// than an hour are one row for each minute; the last column has how many seconds a row is of.
func Seconds(w io.Writer, s *run.Snapshot) error {
	c := csv.NewWriter(w)
	header := []string{"second", "planned", "open", "entered", "said", "arrived", "owed", "delivered", "late", "lost",
		"excused", "duplicate", "stray", "fanout_p50_us", "fanout_p90_us", "fanout_p99_us", "fanout_max_us",
		"first_p50_us", "median_p50_us", "last_p50_us", "last_max_us", "reading_lag_p99_us", "schedule_lag_p99_us",
		"overloaded", "beats", "beats_missing", "evicted", "broke", "away", "tries", "back",
		"seconds"}
	if err := c.Write(header); err != nil {
		return err
	}
	for _, e := range s.Entries {
		row, err := second(e)
		if err != nil {
			return err
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// second gives the row of a second, or of several that are one.
func second(e *logbook.Entry) (row []string, err error) {
	one, err := logbook.Sum([]*logbook.Entry{e}, nil)
	if err != nil {
		return nil, err
	}
	t := &one.Total
	for _, n := range []int64{int64(e.At), int64(e.Gauges.Planned), int64(e.Gauges.Open), int64(e.Gauges.Entered),
		e.Counts.Sent, e.Counts.Arrivals, t.Owed, t.Delivered, t.Late, t.Lost, t.Excused, t.Duplicate, t.Stray} {
		row = append(row, strconv.FormatInt(n, 10))
	}
	f := one.Fanout()
	times := &one.Times
	for _, q := range []struct {
		h *meter.Hist
		q float64
	}{{f, 0.5}, {f, 0.9}, {f, 0.99}, {f, 1}, {&one.First, 0.5}, {&one.Median, 0.5}, {&one.Last, 0.5},
		{&one.Last, 1}, {&times[logbook.ReadingLag], 0.99}, {&times[logbook.ScheduleLag], 0.99}} {
		text := "" // nothing was measured
		if q.h.Count() > 0 {
			text = fmt.Sprintf("%.1f", logbook.Micros(q.h.Quantile(q.q)))
		}
		row = append(row, text)
	}
	row = append(row, strconv.FormatBool(e.Health.Overload != 0))
	for _, n := range []int64{e.Counts.Pulse.Heard, e.Counts.Pulse.Missing, e.Counts.Evicted,
		e.Counts.Returns.Broke, e.Counts.Returns.Away, e.Counts.Returns.Tries, e.Counts.Returns.Back} {
		row = append(row, strconv.FormatInt(n, 10))
	}
	return append(row, strconv.Itoa(e.Seconds())), nil
}

// hdrLog writes the fan-out latencies of each second as an HdrHistogram log
// (format 1.3), in nanoseconds.
func hdrLog(w io.Writer, s *run.Snapshot) error {
	log := hdrhistogram.NewHistogramLogWriter(w)
	start := s.Started.UnixMilli()
	if err := log.OutputComment("[fan-out latency in ns, written by tide pull]"); err != nil {
		return err
	}
	if err := log.OutputLogFormatVersion(); err != nil {
		return err
	}
	if err := log.OutputStartTime(start); err != nil {
		return err
	}
	log.SetBaseTime(start)
	if err := log.OutputLegend(); err != nil {
		return err
	}
	for _, e := range s.Entries {
		h := hdrhistogram.New(64, int64(20*60*1e9), 3)
		all, err := e.Fanout()
		if err != nil {
			return err
		}
		all.EachCount(func(ns int64, n uint32) { _ = h.RecordValues(ns, int64(n)) }) // within its range by construction
		h.SetStartTimeMs(start + int64(e.At)*1000)
		h.SetEndTimeMs(start + int64(e.At+e.Seconds())*1000)
		if err := log.OutputIntervalHistogram(h); err != nil {
			return err
		}
	}
	return nil
}
