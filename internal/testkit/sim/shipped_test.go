package sim_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
	"tidepull/trials"
)

// TestShipped plays the shipped trials about what goes wrong in virtual time, with fewer
// clients: against a good server all limits hold, and against one with the weakness that the
// trial is about the verdict is broken by the limit that tells.
func TestShipped(t *testing.T) {
	for name, with := range map[string]struct {
		switches board.Switches
		breaks   string // a figure
	}{
		"silent-clients": {board.Switches{Beats: board.Beats{NoEviction: 0.5}}, "pulse.not_evicted"},
		"slow-reader":    {board.Switches{Load: board.Load{StallRoom: 1}}, "fanout.p99"},
		"crowd-entering": {board.Switches{Load: board.Load{CrowdRace: 0.1}}, "ledger.lost"},
		"crowd-return":   {board.Switches{Load: board.Load{NoReturn: 0.3, SlowAccept: 10}}, "ledger.lost"},
		"crowd-return, slowly": {board.Switches{Load: board.Load{SlowAccept: 10}},
			"returns.back_in.max"},
		"burst":          {board.Switches{Load: board.Load{BurstLoss: 5}}, "ledger.lost"},
		"protocol-abuse": {board.Switches{Load: board.Load{Lenient: 0.3}}, "checks.failed_otherwise"},
		"idle-cut":       {board.Switches{Lose: 0.01}, "ledger.lost"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			file, _, _ := strings.Cut(name, ",")
			source, _ := trials.Named(file)
			// a tenth of the clients, but for the few
			fewer := regexp.MustCompile(`clients = (\d+)0\n`).ReplaceAll(source, []byte("clients = $1\n"))
			tr, err := language.Parse(fewer, file, language.Options{})
			if err != nil {
				t.Fatal(err)
			}
			cfg := standin.Config{}
			for i, arg := range tr.Server.Command {
				switch arg {
				case "--ping-every":
					cfg.PingEvery, _ = time.ParseDuration(tr.Server.Command[i+1])
				case "--pong-within":
					cfg.PongWithin, _ = time.ParseDuration(tr.Server.Command[i+1])
				case "--history":
					cfg.History = 2000
				case "--notices":
					cfg.Notices = true
				}
			}
			for _, bad := range []bool{false, true} {
				switches := board.Switches{}
				if bad {
					switches = with.switches
				}
				p := playTrial(t, tr, cfg, switches)
				judged := run.Judge(run.Limits(tr), run.EvidenceOf(p.window))
				broken := slices.DeleteFunc(judged, func(j run.Judgement) bool { return j.Verdict != run.Broken })
				tells := slices.ContainsFunc(broken,
					func(j run.Judgement) bool { return j.Limit.Figure == with.breaks })
				why := p.window.Imbalance()
				if !bad && len(broken) > 0 || bad && !tells || why != "" {
					t.Errorf("with the switch: %v; broken: %+v\n%s %+v\n%v", bad, broken, why, p.window.Total,
						p.reasons)
				}
			}
		})
	}
}
