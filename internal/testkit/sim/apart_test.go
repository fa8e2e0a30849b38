package sim_test

import (
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"tidepull/internal/engine"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial/language"
	"tidepull/trials"
)

// playApart plays a trial with its clients on three machines, whose clocks are wrong by up to a while.
func playApart(t *testing.T, source string, seed int, cfg standin.Config, switches board.Switches) played {
	t.Helper()
	tr, err := language.Parse([]byte(source), "apart.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	const machines = 3
	listening, dialling := sim.NewShared(3*time.Millisecond, 0, machines)
	r := rand.New(rand.NewPCG(uint64(seed), 3))
	off := []time.Duration{200 * time.Microsecond, 2 * time.Millisecond, 8 * time.Millisecond}[seed%3]
	for i := range dialling {
		dialling[i] = sim.Skewed(dialling[i], time.Duration(r.Int64N(int64(2*off)))-off)
	}
	cfg.Switches = switches
	return playOn(t, tr, cfg, listening, dialling, func(c *engine.Config) {
		c.Machines = []int{0, 1, 2}
		c.Off = func(int) time.Duration { return off }
	})
}

// TestApart: a correct server is blamed for nothing whatever the clocks of the machines are like, up to more than a
// message takes: clients that come and go while others speak, that come back after cuts, that the server tells of each
// other. And what a server loses is told to the message.
func TestApart(t *testing.T) {
	demo := strings.NewReplacer("240", "24", "136", "12", "= 24\n", "= 6\n", "% 8", "% 3", `"5s"`, `"700ms"`, `"60s"`,
		`"2s"`, `"20s"`, `"3s"`, `"10s"`, `"3s"`).Replace(string(trials.Demo))
	for seed := range seeds(60) {
		source := strings.Replace(demo, "seed = 7", "seed = "+strconv.Itoa(seed), 1)
		p := playApart(t, source, seed, standin.Config{}, board.Switches{})
		w, l := p.window, p.window.Total
		if l.Owed == 0 || l.Lost+l.Late+l.Duplicate+l.Stray+l.Overdue+l.Open()+l.Defects() != 0 || w.Foreign != 0 ||
			w.Imbalance() != "" || w.ChecksFailed() != 0 {
			t.Errorf("seed %d: %+v, %d foreign, %d checks failed; %s %v", seed, l, w.Foreign, w.ChecksFailed(),
				w.Imbalance(),
				p.reasons)
			for _, m := range p.last.Kept {
				t.Errorf("%s %+v", p.last.Rooms[m.Room], m)
			}
		}
		p = playApart(t, source, seed, standin.Config{}, board.Switches{Seed: uint64(seed), Lose: 0.02, Double: 0.02})
		if l := p.window.Total; l.Stray+l.Late+l.Overdue != 0 || l.Lost == 0 ||
			l.Lost+l.Excused+int64(p.truth.Due)-l.Owed < int64(p.truth.Lost) ||
			l.Lost > int64(p.truth.Lost) || l.Duplicate == 0 {
			t.Errorf("seed %d: %+v, the truth %+v", seed, l, p.truth)
		}
	}
}

// TestRestlessApart: of clients that move between rooms, that faults cut off and that return, and that climb routes,
// with a server that tells of who comes and goes, and of numbers, nothing is found that is not found if the clocks
// are right.
func TestRestlessApart(t *testing.T) {
	moving, returning, climbing, cfg := restlessTrials()
	for seed := range seeds(36) {
		source := []string{moving, returning, climbing}[seed/3%3]
		cfg := cfg
		cfg.History = 5 // as it is promised
		if seed/3%3 > 0 {
			cfg.PingEvery = 500 * time.Millisecond
		}
		source = strings.Replace(source, "seed = 5", "seed = "+strconv.Itoa(seed), 1)
		found := func(p played) int64 {
			w, l := p.window, p.window.Total
			return l.Lost + l.Late + l.Duplicate + l.Stray + l.Defects() + w.Counts.StrayNews + w.ChecksFailed()
		}
		p, right := playApart(t, source, seed, cfg, board.Switches{}), playRight(t, source, cfg)
		if w := p.window; w.Total.Owed < 100 || found(p) > found(right) || w.Imbalance() != "" {
			t.Errorf("seed %d: %+v, %d stray news, %d checks failed; %s %v", seed, w.Total, w.Counts.StrayNews,
				w.ChecksFailed(), w.Imbalance(), p.reasons)
			for _, m := range p.last.Kept {
				t.Errorf("%s %+v", p.last.Rooms[m.Room], m)
			}
		}
	}
}

// playRight plays a trial on as many machines with clocks that agree.
func playRight(t *testing.T, source string, cfg standin.Config) played {
	t.Helper()
	tr, err := language.Parse([]byte(source), "right.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return playShared(t, tr, cfg, board.Switches{}, 0, 3)
}
