package export

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"tidepull/internal/finding"
	"tidepull/internal/survey"
)

// TestReport writes the report on a run, and on one whose names are those of somebody who means ill: the Markdown is
// the golden one, the pages are whole, and none has next to nothing on it.
func TestReport(t *testing.T) {
	for _, name := range []string{"run 1", meansIll} {
		s := snapshot(t)
		s.Findings = []finding.Finding{{Weakness: 1, Title: "crowd race", Severity: finding.Loss, Usually: "a lock",
			Says:       "12 of 60 clients that entered within the same 20 ms never got a message of " + name,
			RuledOut:   []string{"the tool"},
			Evidence:   []finding.Evidence{{Says: name + " got nothing", Client: 2, At: 3 * time.Second}},
			Experiment: "again"}}
		if name == meansIll {
			tr := *s.Trial
			tr.Name, tr.Source.Name = meansIll, meansIll
			s.Trial = &tr
		}
		dir := t.TempDir()
		files, err := WriteReport(dir, Request{Run: s, Name: name, Version: "test"})
		if err != nil {
			t.Fatal(err)
		}
		pages := 0
		for _, file := range files {
			b, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			switch filepath.Ext(file) {
			case ".svg":
				if !strings.Contains(file, "figure") {
					pages++
				}
				checkXML(t, file, bytes.NewBuffer(b))
			case ".pdf":
				if n := strings.Count(string(b), "/Type /Page\n"); n < 2 || n > 6 || !bytes.Contains(b,
					[]byte("/FontFile2")) {
					t.Errorf("%d pages", n)
				}
			case ".md":
				if bytes.Contains(b, []byte("<script")) || bytes.ContainsRune(b, 0x1b) {
					t.Errorf("the Markdown has markup of somebody else's: %s", b)
				}
				if name != meansIll {
					golden(t, "report.md", bytes.ReplaceAll(b, []byte(runtime.GOOS+"/"+runtime.GOARCH+
						fmt.Sprintf(", %d cores", runtime.NumCPU())), []byte("some machine")))
				}
			}
		}
		if pages < 2 {
			t.Errorf("%d pages as SVG", pages)
		}
	}
}

// surveyed is a survey with something of each kind in it.
func surveyed(t *testing.T) *SurveyReport {
	last := snapshot(t)
	last.Findings = []finding.Finding{{Weakness: 1, Title: "crowd race", Severity: finding.Loss, Says: "some got " +
		"nothing",
		RuledOut: []string{"the tool"}, Evidence: []finding.Evidence{{Says: "one", Client: 2}},
		Figures: []string{"ledger.lost"}},
		{Weakness: 27, Title: "wrong presence", Severity: finding.Wrong, RuledOut: []string{},
			Evidence: []finding.Evidence{},
			Figures:  []string{"checks.failed"}},
		{Title: "broken connections", Severity: finding.Wrong, RuledOut: []string{}, Evidence: []finding.Evidence{},
			Figures: []string{"clients.broken"}},
		{Title: "lost messages", Severity: finding.Loss, RuledOut: []string{}, Evidence: []finding.Evidence{},
			Figures: []string{"ledger.lost"}}}
	results := []survey.Result{{Experiment: survey.Experiment{Name: "crowd", Rows: []int{1, 2}, Of: survey.Deliveries,
		Shows: "who is in"}, Run: last}, {Experiment: survey.Experiment{Name: "whispers", Rows: []int{4}},
		Why: "no words"}}
	return &SurveyReport{Version: "test", Target: "ws://127.0.0.1:7411/live", Trial: "a tide", File: "a.trial.hcl",
		Report: survey.Of(results), Results: results}
}

// TestSurveyReport writes a survey: what was found is in it, what follows from that is told as that, and the rest has
// why it was not tried.
func TestSurveyReport(t *testing.T) {
	s := surveyed(t)
	if n := len(s.Report.Others); n != 1 || len(s.Report.Also) != 1 || s.Report.Rows[26].From != 1 {
		t.Errorf("%+v %+v %+v", s.Report.Others, s.Report.Also, s.Report.Rows[26])
	}
	dir := t.TempDir()
	files, err := s.Write(dir)
	if err != nil || len(files) < 5 {
		t.Fatalf("%v %v", files, err)
	}
	b, err := os.ReadFile(filepath.Join(dir, "survey.md"))
	for _, part := range []string{"verdict: 1 of 42 weaknesses", "### loss: crowd race (no. 1)", "shown by:",
		"from no. 1",
		"| 4 | whisper leak | no words |", "broken connections"} {
		if err != nil || !strings.Contains(string(b), part) {
			t.Errorf("%v: the report does not say %q:\n%s", err, part, b)
		}
	}
}
