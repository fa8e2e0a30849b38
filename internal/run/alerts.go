package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine/process"
	"tidepull/internal/trial"
)

// mostAlerts bounds the commands that wait to be run: one for each limit is fewer.
const mostAlerts = 256

// An Alerted is one time that an alert's command was run.
type Alerted struct {
	At     time.Duration `json:"at_ns"` // since the start of the run
	On     string        `json:"on"`
	Of     string        `json:"of"`     // the limit; "" of a run
	Failed string        `json:"failed"` // why the command could not be done; "" if it was
}

// Words says an alert that was given, or was not, in a sentence.
func (a *Alerted) Words() string {
	of := fmt.Sprintf("limit %q", a.Of)
	if a.Of == "" {
		of = "the run"
	}
	text := fmt.Sprintf("alert at %s: %s is %s", units.Clock(a.At), of, a.On)
	if a.Failed != "" {
		text += "; its command failed: " + a.Failed
	}
	return text
}

// alerts runs a trial's alerts, one command after another, beside the run. A command that takes long holds up other
// commands, and nothing else.
type alerts struct {
	trial *trial.Trial
	todo  chan alert
	ended chan struct{}
	told  map[string]bool // by name of a limit; of the collecting goroutine

	mu   sync.Mutex
	done []Alerted
}

type alert struct {
	*trial.Alert
	Alerted
	says, verdict string
}

// startAlerts starts what runs a trial's alerts; nil if it has none.
func startAlerts(t *trial.Trial) *alerts {
	if len(t.Alerts) == 0 {
		return nil
	}
	a := &alerts{trial: t, todo: make(chan alert, mostAlerts), ended: make(chan struct{}), told: map[string]bool{}}
	go func() {
		defer close(a.ended)
		for one := range a.todo {
			one.Failed = a.carryOut(&one)
			a.mu.Lock()
			a.done = append(a.done, one.Alerted)
			a.mu.Unlock()
		}
	}()
	return a
}

// look gives alert of limits that are broken, whatever comes, and were not before.
func (a *alerts) look(s *Snapshot) {
	if a == nil {
		return
	}
	for i := range s.Judgements {
		j := &s.Judgements[i]
		if j.Verdict != Broken || a.told[j.Limit.Name] || !s.Finished && !j.Limit.Exceeded(j.Measured) {
			continue
		}
		a.told[j.Limit.Name] = true
		a.give(trial.OnBroken, alert{Alerted: Alerted{At: s.Elapsed, Of: j.Limit.Name}, says: j.Says(s.Kinds(j))})
	}
}

// give queues the commands for something; those beyond mostAlerts are left out, with a word.
func (a *alerts) give(on string, what alert) {
	for i := range a.trial.Alerts {
		if what.Alert = &a.trial.Alerts[i]; what.Alert.On != on {
			continue
		}
		what.Alerted.On = on
		select {
		case a.todo <- what:
		default:
			what.Failed = "too many others were under way"
			a.mu.Lock()
			a.done = append(a.done, what.Alerted)
			a.mu.Unlock()
		}
	}
}

// finish gives the last alerts, and waits for the commands that are under way.
func (a *alerts) finish(s *Snapshot) []Alerted {
	if a == nil {
		return nil
	}
	a.look(s)
	verdict, why := s.Outcome()
	a.give(trial.OnOver, alert{Alerted: Alerted{At: s.Elapsed}, says: why, verdict: string(verdict)})
	close(a.todo)
	<-a.ended
	return a.done
}

// carryOut runs one command, and says why it could not be done; "" if it was.
func (a *alerts) carryOut(one *alert) string {
	ctx, cancel := context.WithTimeout(context.Background(), one.Within)
	defer cancel()
	c := exec.CommandContext(ctx, one.Command[0], one.Command[1:]...)
	c.WaitDelay = time.Second // what it started may keep its output open
	process.Apart(c)          // ctrl-c is the tool's
	c.Cancel = func() error { return process.Kill(c) }
	t := a.trial
	c.Env = os.Environ()
	for name, value := range map[string]string{"TRIAL": t.Name, "TARGET": t.Target.Address, "AT": units.Clock(one.At),
		"LIMIT": one.Of, "VERDICT": one.verdict, "SAYS": one.says} {
		c.Env = append(c.Env, "TIDEPULL_"+name+"="+t.Hide(plain.Text(value, 1000)))
	}
	out, err := c.CombinedOutput()
	switch {
	case err == nil:
		return ""
	case ctx.Err() != nil:
		return fmt.Sprintf("it was not done within %v", one.Within)
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) && len(out) > 0 {
		return t.Hide(plain.Text(fmt.Sprintf("%v: %s", err, out), 300))
	}
	return t.Hide(plain.Text(err.Error(), 300))
}
