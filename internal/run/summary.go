package run

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"time"

	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/traffic"
	"tidepull/internal/finding"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/trial"
)

// A Summary is a run in figures, as summary.json has it. Its fields are
// described in docs/summary.md; they are only added to, never renamed.
type Summary struct {
	Version     int              `json:"version"` // of this layout: 1
	Trial       string           `json:"trial"`
	Target      string           `json:"target"`
	Seed        uint64           `json:"seed"`
	Started     time.Time        `json:"started"`
	Seconds     float64          `json:"seconds"`
	CutShort    bool             `json:"cut_short"`
	Clients     int              `json:"clients"`
	Connections Connections      `json:"connections"`
	Messages    Messages         `json:"messages"`
	Ledger      LedgerSummary    `json:"ledger"`
	Fanout      meter.Latencies  `json:"fanout"`
	Spread      Spread           `json:"spread"`
	Early       Early            `json:"early"` // the other end of what is known of fan-out and spread
	Expected    Expectations     `json:"expectations"`
	Checks      []CheckSummary   `json:"checks"`
	FinalChecks []FinalResult    `json:"final_checks"`
	Reckonings  []FinalResult    `json:"reckonings"` // the name that final_checks had first: fields are not renamed
	Feed        Feed             `json:"feed"`
	Requests    Requests         `json:"requests"`
	Routes      Routes           `json:"routes"`
	Returns     Returns          `json:"returns"`
	Pulse       Pulse            `json:"pulse"`       // heartbeats
	Faults      []Happened       `json:"faults"`      // as they happened
	Comebacks   []Comeback       `json:"comebacks"`   // of those that each fault cut off
	Impacts     []Impact         `json:"impacts"`     // of what was done on purpose on those that it was not done to
	Path        map[string]int64 `json:"path"`        // what faults did on the path between clients and server
	Kernel      *traffic.Did     `json:"kernel"`      // what the system did of the faults; null: nothing
	Server      ServerSummary    `json:"server"`      // its process
	ClosedLoop  bool             `json:"closed_loop"` // some sends waited for answers: the rate is the server's
	Load        LoadSummary      `json:"load"`        // how much of the planned load there was
	Self        Self             `json:"self"`
	Reasons     map[string]int   `json:"reasons"`
	Limits      []LimitSummary   `json:"limits"`
	InCommon    []Shared         `json:"in_common"`   // what went wrong has in common
	ServerSide  ServerSide       `json:"server_side"` // what the server wrote, and whether it is still there
	Alerts      []Alerted        `json:"alerts"`      // of the trial: commands that were run
	Processes   Processes        `json:"processes"`   // that served the clients
	// messages that came otherwise than they were said, the first of each sort of change
	Differences []DifferenceSummary `json:"differences"`
	Findings    []finding.Finding   `json:"findings"` // what is wrong with the server, the worst first
	Verdict     Verdict             `json:"verdict"`
	Why         string              `json:"why"` // the verdict, in one line
}

// LoadSummary is how much of the planned load there was: shares in percent, 0 if nothing was
// planned of it.
type LoadSummary struct {
	Offered  float64 `json:"offered"`
	Clients  float64 `json:"clients"`
	Messages float64 `json:"messages"`
	AtOnce   int64   `json:"at_once"` // what was to happen at one moment
	Apart    int64   `json:"apart"`   // of it: more than 20 ms after that
	Worst    float64 `json:"worst_us"`
}

func loadSummary(w *logbook.Window) (s LoadSummary) {
	of := func(figure string) float64 {
		value, ok := logbook.FigureNamed(figure).Of(w)
		if !ok {
			return 0
		}
		return round(value)
	}
	return LoadSummary{Offered: of("load.offered"), Clients: of("load.clients"), Messages: of("load.messages"),
		AtOnce: w.Counts.Load.AtOnce, Apart: w.Counts.Load.Apart, Worst: of("load.worst")}
}

// A CheckSummary is how often one check held and failed.
type CheckSummary struct {
	Name   string `json:"name"`
	Kind   string `json:"kind"`
	Held   int64  `json:"held"`
	Failed int64  `json:"failed"`
}

// Feed counts what the server pushed by itself.
type Feed struct {
	Readings int64           `json:"readings"`
	Gaps     int64           `json:"gaps"`
	Repeats  int64           `json:"repeats"`
	Backward int64           `json:"backward"`
	Stale    int64           `json:"stale"`
	Age      meter.Latencies `json:"age"`
}

// Requests count HTTP requests.
type Requests struct {
	Answered   int64           `json:"answered"`
	Unanswered int64           `json:"unanswered"`
	Answer     meter.Latencies `json:"answer"`
}

// Routes are how clients came to the server, and what that took.
type Routes struct {
	On                  map[string]float64 `json:"on_percent"` // of the clients' connected time, by transport
	Usable              meter.Latencies    `json:"usable"`     // from the first try of any route
	StepsDown           int64              `json:"steps_down"`
	StepsUp             int64              `json:"steps_up"`
	StepsUpFailed       int64              `json:"steps_up_failed"`
	NoneLeft            int64              `json:"none_left"` // clients whose last route failed
	TriedInVain         float64            `json:"tried_in_vain_us"`
	LostAtSwitch        int64              `json:"lost_at_switch"`
	DoubledAtSwitch     int64              `json:"doubled_at_switch"`
	ReorderedAtSwitch   int64              `json:"reordered_at_switch"`
	Connections         int64              `json:"connections"`
	HTTPRequests        int64              `json:"http_requests"`
	BytesUp             int64              `json:"bytes_up"`
	BytesDown           int64              `json:"bytes_down"`
	RequestsPerDelivery float64            `json:"requests_per_delivery"`
	BytesPerDelivery    float64            `json:"bytes_per_delivery"`
}

func routesOf(w *logbook.Window) Routes {
	c := &w.Counts.Routes
	r := Routes{On: map[string]float64{}, Usable: w.Times[logbook.ToUsable].Latencies(), StepsDown: c.Down,
		StepsUp:       c.Up,
		StepsUpFailed: c.UpFailed, NoneLeft: c.NoneLeft, TriedInVain: float64(c.TriedIn), LostAtSwitch: c.LostAt,
		DoubledAtSwitch: c.DoubledAt, ReorderedAtSwitch: c.ReorderedAt, Connections: c.Dials, HTTPRequests: c.Asked,
		BytesUp: c.BytesUp, BytesDown: w.Counts.Bytes}
	for i, name := range logbook.Transports {
		if c.On[i] > 0 {
			r.On[name] = round(100 * c.ShareOn(i))
		}
	}
	for name, into := range map[string]*float64{"routes.requests_per_delivery": &r.RequestsPerDelivery,
		"routes.bytes_per_delivery": &r.BytesPerDelivery} {
		if v, ok := logbook.FigureNamed(name).Of(w); ok {
			*into = round(v)
		}
	}
	return r
}

// Connections count connections.
type Connections struct {
	Opened    int64 `json:"opened"`
	Refused   int64 `json:"refused"`
	Broken    int64 `json:"broken"`
	Denied    int64 `json:"denied"`
	Malformed int64 `json:"malformed"`
	Hindered  int64 `json:"hindered"` // not opened for want of a local port, file or memory
	Evicted   int64 `json:"evicted"`  // closed by the server while they misbehaved on purpose
	Finished  int64 `json:"finished"`
	MostOpen  int   `json:"most_open"`
}

// Messages count messages.
type Messages struct {
	Sent      int64 `json:"sent"`
	Unsent    int64 `json:"unsent"`
	Arrivals  int64 `json:"arrivals"`
	Unknown   int64 `json:"unknown"`    // without a mark, and recognised by no rule
	OtherType int64 `json:"other_type"` // came as text and were said as binary messages, or the other way round
}

// LedgerSummary is the balance: owed = delivered + late + lost + excused.
type LedgerSummary struct {
	Tally
	Balanced  bool  `json:"balanced"` // the books of clients, ledger and meters agree
	Foreign   int64 `json:"foreign"`
	StrayNews int64 `json:"stray_announcements"` // that a client joined or left which it did not
	// messages with something wrong that were counted, but not kept whole
	Unkept int              `json:"unkept"`
	ByRoom map[string]Tally `json:"by_room"`
	ByCrew map[string]Tally `json:"by_crew"`
}

// Tally is one line of the balance.
type Tally struct {
	Said      int64 `json:"said"`
	Owed      int64 `json:"owed"`
	Delivered int64 `json:"delivered"`
	Late      int64 `json:"late"`
	Lost      int64 `json:"lost"`
	// of the late ones: may have been in time, as they were read together with later ones
	MaybeLate int64 `json:"maybe_late"`
	CaughtUp  int64 `json:"caught_up"` // said in the recipient's absence, and here since it is back
	Excused   int64 `json:"excused"`
	Duplicate int64 `json:"duplicate"`
	Stray     int64 `json:"stray"`
	Allowed   int64 `json:"allowed"`
	Past      int64 `json:"past"`
	Overdue   int64 `json:"overdue"`
	Reordered int64 `json:"reordered"` // on top of the others, like the next two
	Disagreed int64 `json:"disagreed"`
	Altered   int64 `json:"altered"`
}

// Spread is how messages went through their audiences.
type Spread struct {
	First  meter.Latencies `json:"first"`
	Median meter.Latencies `json:"median"`
	Last   meter.Latencies `json:"last"`
}

// Early is what the latencies would be if each message that was read together with
// later ones had come as early as it can have.
type Early struct {
	Fanout meter.Latencies `json:"fanout"`
	Last   meter.Latencies `json:"last"`
}

// Expectations count expect steps.
type Expectations struct {
	Met    int64 `json:"met"`
	Missed int64 `json:"missed"`
}

// Self is how the tool itself did.
type Self struct {
	KernelTimes        bool    `json:"kernel_times"` // latencies end in the recipient's kernel
	ReadingLagP99      float64 `json:"reading_lag_p99_us"`
	ScheduleLagP99     float64 `json:"schedule_lag_p99_us"`
	CPUPerDelivery     float64 `json:"cpu_us_per_delivery"`         // the loop's
	ProcessPerDelivery float64 `json:"process_cpu_us_per_delivery"` // the whole process's
	// 0 with fewer clients than it takes to tell from the fixed cost
	RSSPerClient float64 `json:"rss_bytes_per_client"`
	// how far the scripts' own waits pushed iterations of repeats beyond their time
	PushedBackP99     float64 `json:"pushed_back_p99_us"`
	OverloadedSeconds int     `json:"overloaded_seconds"`
	OverloadedWhy     string  `json:"overloaded_why"`
	BusyShare         float64 `json:"busy_share"`
	GCPause           float64 `json:"gc_pause_us"`
	Waited            float64 `json:"waited_for_core_us"`
	// the longest that a thread of the tool or of the server was kept from a core at a time
	Kept           float64 `json:"kept_from_core_us"`
	Stolen         float64 `json:"core_time_stolen_us"`
	CoarseArrivals int64   `json:"coarse_arrivals"` // their time is an upper bound
	HeldReports    int     `json:"held_reports"`
}

// LimitSummary is what became of one limit.
type LimitSummary struct {
	Name     string  `json:"name"`
	Figure   string  `json:"figure"`
	Rule     string  `json:"rule"`
	Value    float64 `json:"value"`          // microseconds if the figure is a duration
	Measured float64 `json:"measured"`       // likewise
	Early    float64 `json:"measured_early"` // what it would be if every arrival had been as early as it can have been
	Unit     string  `json:"unit"`           // "us", "count" or "ratio"
	Verdict  Verdict `json:"verdict"`
	Implied  bool    `json:"implied"` // not the trial's own: every run is held against it
	Why      string  `json:"why,omitempty"`
	Without  int     `json:"without_seconds"` // that are left out of Measured: they say nothing of the server
}

// Checks sums up the trial's checks.
func (s *Snapshot) Checks() []CheckSummary { return ChecksOf(s.Trial, s.Total) }

// ChecksOf sums up a trial's checks within a window.
func ChecksOf(t *trial.Trial, w *logbook.Window) []CheckSummary {
	all := []CheckSummary{}
	for i, c := range t.Checks {
		sum := CheckSummary{Name: c.Name, Kind: c.Kind}
		if i < len(w.Checks) {
			sum.Held, sum.Failed = w.Checks[i].Held, w.Checks[i].Failed
		}
		all = append(all, sum)
	}
	return all
}

// Summarise makes the summary of a run.
func Summarise(s *Snapshot) Summary {
	w := s.Total
	c := &w.Counts
	sum := Summary{Version: 1, Trial: s.Trial.Name, Target: s.Trial.Hide(s.Trial.Target.Address), Seed: s.Trial.Seed,
		Started: s.Started, Seconds: round(s.Elapsed.Seconds()),
		CutShort: s.Stopped || s.Err != nil, Clients: s.Trial.Clients(),
		Connections: Connections{c.Opened, c.Refused, c.Broken, c.Denied, c.Malformed, c.Hindered, c.Evicted,
			c.Finished, w.Most.Open},
		Messages: Messages{c.Sent, c.Unsent, c.Arrivals, c.Unknown, c.OtherType},
		Ledger: LedgerSummary{Tally: tallyOf(&w.Total), Balanced: w.Imbalance() == "", Foreign: w.Foreign,
			StrayNews: c.StrayNews, Unkept: s.Unkept, ByRoom: map[string]Tally{}, ByCrew: map[string]Tally{}},
		Fanout:      w.Fanout().Latencies(),
		Spread:      Spread{w.First.Latencies(), w.Median.Latencies(), w.Last.Latencies()},
		Early:       Early{w.FanoutEarly().Latencies(), w.LastEarly().Latencies()},
		Expected:    Expectations{c.Met, c.Missed},
		Checks:      s.Checks(),
		FinalChecks: append([]FinalResult{}, s.FinalResults...), Reckonings: append([]FinalResult{}, s.FinalResults...),
		Differences: s.differences(), ServerSide: s.ServerSide.brief(),
		Processes: s.Processes.whole(), Alerts: append([]Alerted{}, s.Alerted...),
		Feed:       Feed{c.Readings, c.Gaps, c.Repeats, c.Backward, c.Stale, w.Times[logbook.FeedAge].Latencies()},
		Requests:   Requests{c.Requests, c.Unheard, w.Times[logbook.ToAnswer].Latencies()},
		Routes:     routesOf(w),
		Returns:    returnsOf(w),
		Pulse:      pulseOf(w),
		Faults:     append([]Happened{}, s.Happened...),
		Comebacks:  append([]Comeback{}, Comebacks(s)...),
		Impacts:    append([]Impact{}, Impacts(s)...),
		Path:       map[string]int64{},
		Server:     serverOf(s),
		Kernel:     s.Kernel,
		ClosedLoop: s.Trial.ClosedLoop,
		Findings:   append([]finding.Finding{}, s.Findings...),
		Reasons:    s.Reasons, InCommon: append([]Shared{}, s.Shared...), Limits: []LimitSummary{}}
	sum.Verdict, sum.Why = s.Outcome()
	c.Path.Each(func(name, _ string, n int64) { sum.Path[name] = n })
	for _, l := range w.ByRoom() {
		sum.Ledger.ByRoom[s.Rooms[l.Key]] = tallyOf(&l.Tally)
	}
	for _, l := range w.ByCrew() {
		sum.Ledger.ByCrew[s.Trial.Crews[l.Key].Name] = tallyOf(&l.Tally)
	}
	sum.Load = loadSummary(w)
	sum.Self = Self{KernelTimes: s.KernelTimes,
		ReadingLagP99:      round(logbook.Micros(w.Times[logbook.ReadingLag].Quantile(0.99))),
		ScheduleLagP99:     round(logbook.Micros(w.Times[logbook.ScheduleLag].Quantile(0.99))),
		CPUPerDelivery:     round(ratio(logbook.Micros(w.CPU), float64(c.Arrivals))),
		ProcessPerDelivery: round(ratio(logbook.Micros(w.ProcessCPU), float64(c.Arrivals))),
		PushedBackP99:      round(logbook.Micros(w.Times[logbook.PushedBack].Quantile(0.99))),
		OverloadedWhy:      w.Why.Words(),
		RSSPerClient:       math.Round(s.RSSPerOpen), OverloadedSeconds: w.Overloaded,
		BusyShare: round(ratio(float64(w.Busy), float64(w.Span))), GCPause: round(logbook.Micros(w.GCPause)),
		Waited: round(logbook.Micros(w.Waited)),
		Kept:   round(logbook.Micros(w.Kept)), Stolen: round(logbook.Micros(w.Stolen)), CoarseArrivals: c.Coarse,
		HeldReports: s.Held}
	for _, j := range s.Judgements {
		unit := [...]string{logbook.Count: "count", logbook.Duration: "us", logbook.Ratio: "ratio"}[j.Unit]
		sum.Limits = append(sum.Limits, LimitSummary{j.Limit.Name, j.Limit.Figure, j.Limit.Rule.String(), j.Limit.Value,
			round(j.Measured), round(j.Early), unit, j.Verdict, j.Limit.Implied, j.Why, j.Without})
	}
	return sum
}

func round(f float64) float64 { return math.Round(f*1000) / 1000 }

func ratio(a, b float64) float64 {
	if b == 0 {
		return 0
	}
	return a / b
}

func tallyOf(t *ledger.Tally) Tally {
	return Tally{t.Said, t.Owed, t.Delivered, t.Late, t.Lost, t.MaybeLate, t.CaughtUp, t.Excused, t.Duplicate, t.Stray,
		t.Allowed, t.Past, t.Overdue, t.Reordered, t.Disagreed, t.Altered}
}

// Write writes the summary as summary.json into a folder, which is made where
// it is missing. A file that is there is replaced whole or not at all.
func (s *Summary) Write(dir string) error {
	b, err := s.JSON()
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "summary.json")
	if err := WriteWhole(path, b); err != nil {
		return fmt.Errorf("writing the summary: %w", err)
	}
	return nil
}

// JSON is the summary as summary.json has it.
func (s *Summary) JSON() ([]byte, error) {
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the summary: %w", err)
	}
	return append(b, '\n'), nil
}

// TryOut reports, before a run, whether its results can be written into a folder, which is made if it is
// not there.
func TryOut(dir string) error {
	path := filepath.Join(dir, "summary.json.part")
	if err := WriteWhole(path, nil); err != nil {
		return fmt.Errorf("the results cannot be written to %s: %w", dir, err)
	}
	return os.Remove(path)
}

// WriteWhole writes a file for its user alone, which is whole or not there. Its folder is made.
func WriteWhole(path string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := machine.CreatePrivate(path + ".new")
	if err != nil {
		return err
	}
	if _, err := f.Write(content); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}
