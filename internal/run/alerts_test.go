package run

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// TestAlerts: a command is run once for each limit that is broken, whatever comes, and once when the run is over; it
// knows what happened, hears no secret, and cannot hold the run up.
func TestAlerts(t *testing.T) {
	file := filepath.Join(t.TempDir(), "told")
	tell := []string{"sh", "-c", `echo "$TIDEPULL_AT|$TIDEPULL_LIMIT|$TIDEPULL_VERDICT|$TIDEPULL_SAYS" >> ` + file}
	limits := []trial.Limit{{Name: "none lost", Figure: "ledger.lost", Rule: trial.Equals},
		{Name: "many said", Figure: "messages.sent", Rule: trial.AtLeast, Value: 100}}
	tr := &trial.Trial{Name: "night", Limits: limits, Alerts: []trial.Alert{
		{On: trial.OnBroken, Command: tell, Within: 10 * time.Second},
		{On: trial.OnBroken, Command: []string{"sh", "-c", "sleep 60 & sleep 60"}, Within: 100 * time.Millisecond},
		{On: trial.OnBroken, Command: []string{"sh", "-c", "echo the mooring line; exit 3"}, Within: 10 * time.Second},
		{On: trial.OnOver, Command: tell, Within: 10 * time.Second}}}
	tr.SetSecrets([]string{"mooring line"})
	a := startAlerts(tr)
	at := func(seconds int, lost float64, finished bool) *Snapshot {
		return &Snapshot{Trial: tr, Elapsed: time.Duration(seconds) * time.Second, Finished: finished,
			Total: &logbook.Window{Counts: logbook.Counts{Started: 1, Opened: 1}}, Judgements: []Judgement{
				{Limit: limits[0], Measured: lost, Verdict: map[bool]Verdict{true: Holds, false: Broken}[lost == 0]},
				{Limit: limits[1], Measured: 5, Verdict: Broken}}}
	}
	began := time.Now()
	for s := range 20 {
		a.look(at(s, max(0, float64(s-5)), false)) // that there are few is not broken before the end
	}
	if took := time.Since(began); took > 50*time.Millisecond {
		t.Errorf("the run was held up for %v", took)
	}
	done := a.finish(at(20, 14, true))
	told, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(told)), "\n")
	if len(lines) != 3 || !strings.HasPrefix(lines[0], "0:06|none lost||ledger.lost is 1, wanted exactly 0") ||
		!strings.HasPrefix(lines[1], "0:20|many said||") ||
		!strings.HasPrefix(lines[2], "0:20||broken|ledger.lost is 14") {
		t.Errorf("told:\n%s", told)
	}
	var failed []string
	for i := range done {
		if done[i].Of != "many said" && done[i].Failed != "" {
			failed = append(failed, done[i].Words())
		}
	}
	if len(done) != 7 || len(failed) != 2 ||
		failed[0] != `alert at 0:06: limit "none lost" is broken; its command failed: it was not done within 100ms` ||
		!strings.Contains(failed[1], "exit status 3: the ") || strings.Contains(failed[1], "mooring") {
		t.Errorf("%d: %q", len(done), failed)
	}
}
