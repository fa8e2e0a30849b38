package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"os/signal"
	"regexp"
	"slices"
	"syscall"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capture/play"
	"tidepull/internal/capture/recording"
	"tidepull/internal/capture/replay"
	"tidepull/internal/engine/machine"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

type replayCommand struct {
	File      string            `arg:"" help:"A recording, made by record, import or another tool."`
	To        string            `placeholder:"URL" help:"Play it to this address instead of the recorded one."`
	Copies    int               `default:"1" help:"How many copies of the recorded clients."`
	Speed     float64           `default:"1" help:"Divide the recorded pauses by this; 0 leaves them out."`
	Within    time.Duration     `default:"5s" help:"How long something that came in the recording may take."`
	KeepValue []string          `sep:"none" placeholder:"VALUE" help:"${keep_value}"`
	Vary      map[string]string `mapsep:"none" placeholder:"VALUE=EXPRESSION" help:"${vary}"`
	Twin      string            `placeholder:"FILE" help:"${twin}"`
	Guesses   bool              `help:"List the values that were found to vary, and play nothing."`
	Write     string            `placeholder:"FILE" help:"${replay_write}"`
	Ignore    []string          `sep:"none" placeholder:"PATTERN" help:"${ignore}"`
	JSON      bool              `name:"json" help:"Print the result as JSON."`
	trust
	remote
}

// Run plays a recording, or writes it as a trial.
func (c *replayCommand) Run() error {
	plan, err := c.planOf(c.File)
	if err != nil {
		return err
	}
	varies, err := c.fixValues(plan)
	if err != nil {
		return err
	}
	switch {
	case !(c.Speed >= 0 && c.Speed <= 1e6):
		return fmt.Errorf("--speed %v: it goes from 0 to 1000000", c.Speed)
	case c.Copies < 1 || c.Copies > 15000:
		return fmt.Errorf("--copies %d: it goes from 1 to 15000", c.Copies)
	case c.Write != "":
		return c.write(plan)
	case c.Guesses:
		printGuesses(plan)
		for _, v := range varies {
			fmt.Printf("%-7s %s is another in each recording, and is not compared\n", "value", plain.Text(v, 100))
		}
		return nil
	}
	return c.play(plan)
}

// planOf reads a recording, and makes a plan of it.
func (c *replayCommand) planOf(file string) (*replay.Plan, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rec, err := recording.Read(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if c.Write != "" {
		rec = rec.Concealed() // what is written may be handed on
	}
	plan, err := replay.Make(rec, replay.Options{Keep: c.KeepValue, Vary: c.Vary})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return plan, nil
}

// fixValues finds the values that must be the same now, with another recording of the same session if there is
// one, and lists those that are not the same in both.
func (c *replayCommand) fixValues(plan *replay.Plan) (varies []string, err error) {
	if c.Twin == "" {
		return nil, nil
	}
	twin, err := c.planOf(c.Twin)
	if err != nil {
		return nil, err
	}
	if len(twin.Actors) != len(plan.Actors) {
		return nil, fmt.Errorf("--twin %s has %d clients, and the recording has %d: it is not of the same session",
			c.Twin, len(twin.Actors), len(plan.Actors))
	}
	return plan.FixValues(twin), nil
}

// write writes the plan as a trial. Secrets in the recording become secret blocks,
// with values that stand nowhere.
func (c *replayCommand) write(plan *replay.Plan) error {
	out, notes, done, err := outputTo(c.Write)
	if err != nil {
		return err
	}
	if c.To != "" {
		plan.Target = c.To
	}
	if _, err := out.WriteString(plan.Trial(plain.Text(c.File, 60), max(c.Speed, 0.001))); err != nil {
		done()
		return err
	}
	fmt.Fprintf(notes, "%d clients, %d values that vary: %s\n", len(plan.Actors), len(plan.Guesses), c.Write)
	return done()
}

func printGuesses(plan *replay.Plan) {
	if len(plan.Guesses) == 0 {
		fmt.Println("nothing was found to vary")
	}
	for _, g := range plan.Guesses {
		fmt.Printf("%-7s %-40q becomes %-24s %s\n", g.Kind, plain.Text(g.Value, 60), g.Becomes, plain.Text(g.Why, 0))
	}
}

// play plays the plan and prints what differs as it goes on. A server that cannot be
// reached has an exit status of its own, and so has a server that answers otherwise.
func (c *replayCommand) play(plan *replay.Plan) error {
	if c.To != "" {
		if _, err := url.Parse(c.To); err != nil {
			return fmt.Errorf("--to %q is no address", c.To)
		}
	}
	to := plan.Target
	if c.To != "" {
		to = c.To
	}
	if err := c.mayReach("the replay", to, fmt.Sprintf("with %d copies of %d clients", c.Copies,
		len(plan.Actors))); err != nil {
		return err
	}
	if limit := machine.RaiseFileLimit(); limit > 0 && c.Copies*len(plan.Actors)*2+64 > limit {
		return fmt.Errorf("%d copies of %d clients may need %d open files, and this process may have %d", c.Copies,
			len(plan.Actors), c.Copies*len(plan.Actors)*2, limit)
	}
	if !c.JSON {
		printGuesses(plan)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	began := time.Now()
	progress := func(done, of int) {
		fmt.Fprintf(os.Stderr, "%4.0fs %d of %d clients are done\n", time.Since(began).Seconds(), done, of)
	}
	ignore, err := patterns(c.Ignore)
	if err != nil {
		return err
	}
	trusted, err := c.trust.options()
	if err != nil {
		return err
	}
	address, err := wire.ParseAddress(to)
	var addrs []netip.Addr
	if err == nil {
		addrs, err = c.leadsTo(ctx, address)
	}
	var elsewhere *trial.Elsewhere
	switch {
	case errors.As(err, &elsewhere):
		return err
	case err != nil:
		return &exitError{exitUnreachable, err.Error()}
	}
	r, err := play.Run(ctx, plan, play.Options{To: c.To, Addrs: addrs, TLS: trusted, Copies: c.Copies,
		Ignore: ignore, Speed: c.Speed, Within: c.Within, Secrets: hiddenValues(plan), Progress: progress})
	var unreachable *play.Unreachable
	switch {
	case errors.As(err, &unreachable):
		return &exitError{exitUnreachable, err.Error()}
	case err != nil && r == nil:
		return err
	}
	stopped := err != nil
	if c.JSON {
		b, err := json.MarshalIndent(r, "", "  ")
		if err != nil {
			return err
		}
		fmt.Println(string(b))
	} else {
		printResult(r)
	}
	switch {
	case !r.Same:
		return &exitError{status: exitBroken}
	case !r.Compared:
		return &exitError{status: exitNotProven}
	case stopped:
		fmt.Println("it was stopped: what was played up to there is the same, the rest is not proven")
		return &exitError{status: exitNotProven}
	}
	return nil
}

// hiddenValues takes what was hidden in the recording from the environment.
func hiddenValues(plan *replay.Plan) map[string]string {
	all := map[string]string{}
	for _, g := range plan.Guesses {
		if g.Kind == "secret" {
			_, env := recording.SecretOf(g.Value)
			all[g.Value] = os.Getenv(env)
		}
	}
	return all
}

// printResult prints the differences in groups. What came in addition counts only if
// the plan says so: it may be the server's own business.
func printResult(r *play.Result) {
	fmt.Printf("%d copies of %d clients in %s: %s things that the server said then, %s now\n", r.Copies, r.Clients,
		units.Duration(r.Took), units.Count(int64(r.Expected)), units.Count(int64(r.Came)))
	for _, g := range r.Groups {
		sign := "DIFFERS"
		if !g.Counts {
			sign = "more"
		}
		fmt.Printf("%s  %q %s, %d times\n", sign, plain.Text(g.What, 80), g.Kind, g.Times)
		if g.Example.Recorded != "" {
			fmt.Printf("         then: %s\n", plain.Text(g.Example.Recorded, 300))
		}
		if g.Example.Now != "" {
			fmt.Printf("         now:  %s\n", plain.Text(g.Example.Now, 300))
		}
		if g.Suggests != "" && g.Counts {
			fmt.Printf("         it looks like a random id; ignore it with --ignore '%s'\n",
				plain.Text(g.Suggests, 300))
		}
	}
	if slices.ContainsFunc(r.Groups, func(g play.Group) bool { return g.Kind == replay.Later && !g.Counts }) &&
		r.Copies == 1 {
		fmt.Printf("this machine was busy: it let the replay stand still for up to %s, so that what came late proves "+
			"nothing\n", units.Duration(r.StoodStill))
	}
	if r.Ignored > 0 {
		fmt.Printf("%d differences were ignored\n", r.Ignored)
	}
	if !r.Compared && r.Same {
		fmt.Println("verdict: not proven (the recording holds nothing that the server said, so that nothing was " +
			"compared)")
	} else if r.Same {
		fmt.Println("verdict: the same")
	} else {
		fmt.Println("verdict: it differs")
	}
}

// patterns compiles what may differ.
func patterns(texts []string) (all []*regexp.Regexp, err error) {
	for _, text := range texts {
		p, err := regexp.Compile(text)
		if err != nil {
			return nil, fmt.Errorf("--ignore %q is no regular expression: %w", text, err)
		}
		all = append(all, p)
	}
	return all, nil
}
