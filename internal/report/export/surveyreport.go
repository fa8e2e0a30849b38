package export

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/finding"
	"tidepull/internal/report/chart"
	"tidepull/internal/run"
	"tidepull/internal/survey"
)

// A SurveyReport is what is written of a survey.
type SurveyReport struct {
	Version string // of the tool
	Target  string
	Trial   string // the name of the trial that its words are of
	File    string // of that trial
	Began   time.Time
	Report  survey.Report
	Results []survey.Result
}

// surveyJSON is survey.json (docs/survey.schema.json).
type surveyJSON struct {
	Version     int               `json:"version"` // of this layout: 1
	Target      string            `json:"target"`
	Trial       string            `json:"trial"`
	Began       time.Time         `json:"began"`
	Rows        []survey.Row      `json:"rows"`
	Others      []finding.Finding `json:"others"`
	Also        []finding.Finding `json:"may_follow"`
	Experiments []experimentJSON  `json:"experiments"`
}

type experimentJSON struct {
	Name       string `json:"name"`
	Shows      string `json:"shows"`
	Weaknesses []int  `json:"weaknesses"`
	Done       bool   `json:"done"`
	Why        string `json:"why"` // it was not done, or says nothing
	Messages   int64  `json:"messages"`
	Deliveries int64  `json:"deliveries"`
}

// Write writes the report of a survey into a folder: survey.json, survey.pdf, its pages as SVG, and survey.md with its
// drawings beside it.
func (s *SurveyReport) Write(dir string) ([]string, error) {
	files, err := writeDocument(dir, "survey", s.document())
	if err != nil {
		return nil, err
	}
	b, err := s.json()
	if err != nil {
		return nil, err
	}
	path := filepath.Join(dir, "survey.json")
	if err := run.WriteWhole(path, b); err != nil {
		return nil, fmt.Errorf("writing the survey: %w", err)
	}
	return append(files, path), nil
}

func (s *SurveyReport) json() ([]byte, error) {
	out := surveyJSON{Version: 1, Target: s.Target, Trial: s.Trial, Began: s.Began.UTC(), Rows: s.Report.Rows,
		Others: append([]finding.Finding{}, s.Report.Others...), Also: append([]finding.Finding{}, s.Report.Also...),
		Experiments: []experimentJSON{}}
	for i := range s.Results {
		r := &s.Results[i]
		e := experimentJSON{Name: r.Experiment.Name, Shows: r.Experiment.Shows, Weaknesses: r.Experiment.Rows,
			Done: r.Run != nil, Why: r.Why}
		if r.Run != nil {
			e.Messages, e.Deliveries = r.Run.Total.Counts.Sent, r.Run.Total.Total.Owed
		}
		out.Experiments = append(out.Experiments, e)
	}
	b, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the survey: %w", err)
	}
	return append(b, '\n'), nil
}

// document is the survey as one would hand it to a colleague.
func (s *SurveyReport) document() *chart.Document {
	d := &chart.Document{Title: "A survey of " + plain.Text(s.Target, 80), Foot: "tide pull " + s.Version,
		Notes: []string{fmt.Sprintf("made of the words of trial %q, begun %s", plain.Text(s.Trial, 60),
			s.Began.UTC().Format("2006-01-02 15:04:05 UTC"))}}
	n := s.Report.Count()
	var found []*survey.Row
	for i := range s.Report.Rows {
		row := &s.Report.Rows[i]
		if row.State == survey.Found {
			found = append(found, row)
		}
	}
	slices.SortStableFunc(found, func(a, b *survey.Row) int {
		return finding.BySeverity(*a.Finding, *b.Finding)
	})
	verdict := fmt.Sprintf("%d of %d weaknesses were found", len(found), len(s.Report.Rows))
	if len(found) == 0 {
		verdict = "nothing was found"
	}
	messages, deliveries, ran := int64(0), int64(0), 0
	for i := range s.Results {
		if r := s.Results[i].Run; r != nil {
			ran++
			messages, deliveries = messages+r.Total.Counts.Sent, deliveries+r.Total.Total.Owed
		}
	}
	d.Blocks = append(d.Blocks, chart.Lines{Label: "verdict", Text: verdict, Strong: true},
		para("besides", fmt.Sprintf("%d were looked for and not found, %d follow from what was found, %d are noted, "+
			"and %d were not tried", n[survey.NotFound], n[survey.FollowsFrom], n[survey.Noted], n[survey.NotTried])),
		para("tested by", fmt.Sprintf("%s, %s messages said, %s deliveries owed", units.Plural(ran, "experiment"),
			units.Count(messages), units.Count(deliveries))))
	if len(found)+len(s.Report.Others) > 0 {
		d.Blocks = append(d.Blocks, chart.Heading{Text: "What was found"})
	}
	for _, row := range found {
		d.Blocks = append(d.Blocks, s.findingBlocks(row)...)
	}
	for i := range s.Report.Others {
		f := &s.Report.Others[i]
		d.Blocks = append(d.Blocks, chart.Lines{Label: string(f.Severity), Text: f.Title, Strong: true}, para("",
			f.Says))
	}
	d.Blocks = append(d.Blocks, chart.Heading{Text: "All that was looked for"}, s.rows())
	d.Blocks = append(d.Blocks, chart.Heading{Text: "What was not tried, and what would allow it"}, s.untried())
	d.Blocks = append(d.Blocks, s.environment()...)
	d.Blocks = append(d.Blocks, chart.Heading{Text: "How to repeat it"},
		para("command", "tidepull survey "+plain.Text(s.File, 200)),
		para("alone", "tidepull survey "+plain.Text(s.File, 200)+" --only NUMBER looks for one weakness; --keep DIR "+
			"writes the experiments, each a trial that runs alone"))
	return d
}

// findingBlocks are what was found of one weakness, drawn from the run that shows it.
func (s *SurveyReport) findingBlocks(row *survey.Row) []chart.Block {
	for i := range s.Results {
		if r := &s.Results[i]; r.Run != nil && r.Experiment.Name == row.Shown {
			of := &Request{Run: r.Run, Version: s.Version, Name: "the experiment '" + row.Shown + "'"}
			blocks := of.findingBlocks([]finding.Finding{*row.Finding})
			return append(blocks, para("shown by", fmt.Sprintf("the experiment '%s': %s", row.Shown,
				r.Experiment.Shows)))
		}
	}
	return []chart.Block{chart.Lines{Label: string(row.Finding.Severity), Text: row.Finding.Title, Strong: true},
		para("", row.Finding.Says)}
}

// rows are all weaknesses that were looked for, by what a developer asks.
func (s *SurveyReport) rows() chart.Grid {
	g := chart.Grid{Header: []string{"no.", "weakness", "", "how often, or how rare it must be"},
		Widths: []float64{0.06, 0.3, 0.2, 0.44}, Texts: []bool{true, true, true, true}}
	for i := range s.Report.Rows {
		row := &s.Report.Rows[i]
		says := plain.Text(row.Says, 800)
		switch {
		case row.State == survey.NotTried:
			continue
		case row.Finding != nil && row.Finding.Share != nil && row.State == survey.Found:
			says = row.Finding.Share.Words()
		case row.State == survey.FollowsFrom:
			says = fmt.Sprintf("from no. %d", row.From)
		}
		g.Rows = append(g.Rows, []string{fmt.Sprint(row.Weakness.Number), row.Weakness.Title, string(row.State), says})
	}
	return g
}

func (s *SurveyReport) untried() chart.Block {
	g := chart.Grid{Header: []string{"no.", "weakness", "why"}, Widths: []float64{0.06, 0.24, 0.7},
		Texts: []bool{true, true, true}}
	for i := range s.Report.Rows {
		if row := &s.Report.Rows[i]; row.State == survey.NotTried {
			g.Rows = append(g.Rows, []string{fmt.Sprint(row.Weakness.Number), row.Weakness.Title, plain.Text(row.Says,
				300)})
		}
	}
	if len(g.Rows) == 0 {
		return para("", "all was tried")
	}
	return g
}

// environment is what the figures rest on.
func (s *SurveyReport) environment() []chart.Block {
	seconds, left, kernel, ran := 0, 0, true, 0
	for i := range s.Results {
		if r := s.Results[i].Run; r != nil {
			ran++
			seconds, left, kernel = seconds+r.Total.Seconds, left+r.Total.Overloaded, kernel && r.KernelTimes
		}
	}
	if ran == 0 {
		return nil
	}
	return []chart.Block{chart.Heading{Text: "What the figures rest on"},
		onMachine(kernel),
		para("left out", fmt.Sprintf("%d of %d seconds of all experiments, as the tool or the machine was the "+
			"bottleneck", left, seconds))}
}
