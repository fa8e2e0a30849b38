package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"time"

	"tidepull/internal/standin/board"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/trials"
)

// wrongs are the stand-in's switches as flags.
type wrongs struct {
	SwitchSeed uint64        `default:"1" help:"What the switches' dice follow from."`
	Hold       time.Duration `help:"Hold every message this long before relaying it."`
	Lose       float64       `help:"Probability that a delivery is left out, 0 to 1."`
	Double     float64       `help:"Probability that a delivery is made twice, 0 to 1."`
	Misdirect  float64       `help:"Probability that a delivery goes to a member of another room instead, 0 to 1."`
	Wrong      []string      `placeholder:"SWITCH=VALUE" help:"${wrong}"`
}

func (w *wrongs) args() []string {
	args := []string{fmt.Sprintf("--switch-seed=%d", w.SwitchSeed), fmt.Sprintf("--hold=%v", w.Hold),
		fmt.Sprintf("--lose=%v", w.Lose),
		fmt.Sprintf("--double=%v", w.Double), fmt.Sprintf("--misdirect=%v", w.Misdirect)}
	for _, s := range w.Wrong {
		args = append(args, "--wrong="+s)
	}
	return args
}

// switches reads the flags.
func (w *wrongs) switches() (s board.Switches, err error) {
	values := url.Values{"seed": {fmt.Sprint(w.SwitchSeed)}, "hold": {w.Hold.String()}, "lose": {fmt.Sprint(w.Lose)},
		"double": {fmt.Sprint(w.Double)}, "misdirect": {fmt.Sprint(w.Misdirect)}}
	for _, given := range w.Wrong {
		name, value, ok := strings.Cut(given, "=")
		if !ok {
			return s, fmt.Errorf("--wrong %q is not SWITCH=VALUE, such as alter=0.01", given)
		}
		values.Set(name, value)
	}
	return s, s.Set(values)
}

type demoCommand struct {
	Name    string `arg:"" optional:"" default:"morning-tide" help:"${demo_name}"`
	Write   string `placeholder:"FILE" help:"${write}"`
	Routes  bool   `help:"The same as three-ways: a third of the clients sit behind a proxy that strips upgrades."`
	Survey  bool   `help:"${demo_survey}"`
	Restart bool   `help:"The same as restart: the board ends and comes back at the height of the tide."`
	wrongs
	breaking
	showing
}

// Run starts the stand-in in a process of its own, so that its work is not the tool's,
// and runs the demo against it.
func (c *demoCommand) Run(a *app) error {
	switch {
	case c.Routes:
		c.Name = "three-ways"
	case c.Restart:
		c.Name = "restart"
	}
	if c.Survey {
		return c.survey(a)
	}
	source, file := trials.Named(c.Name)
	if source == nil {
		return fmt.Errorf("there is no demo %q; there are %s", c.Name, strings.Join(trials.Names(), ", "))
	}
	if c.Name == "three-ways" {
		c.Wrong = append([]string{"strip_upgrade=0.33", "refuse_stream=0.2", "buffer_stream=0.1"}, c.Wrong...)
	}
	if c.Write != "" {
		return writeDemo(c.Write, source)
	}
	if _, err := c.switches(); err != nil {
		return err
	}
	kernel := c.Path == "kernel"
	if kernel {
		if err := enterWith(false); err != nil {
			return err
		}
	}
	t, err := language.Parse(source, file, language.Options{})
	if err != nil {
		return err
	}
	if t.Server != nil {
		if t, err = servedTrial(source, file, c.args()); err != nil {
			return err
		}
		t.Kernel = kernel
		return c.carryOut(a, t)
	}
	board, t, err := demoTrial(file, source, c.args())
	if err != nil {
		return err
	}
	defer board.stop()
	t.Kernel = kernel
	return c.carryOut(a, t)
}

// thrown are the switches with which the stand-in is surveyed, if none are given.
var thrown = []string{"crowd_race=0.4", "no_return=0.6", "any_origin=1", "wrong_echo=0.02", "too_big=20000"}

// survey surveys the stand-in, which does some things wrong.
func (c *demoCommand) survey(a *app) error {
	if c.Write != "" {
		return writeDemo(c.Write, trials.Survey)
	}
	if len(c.Wrong) == 0 {
		c.Wrong = thrown
	}
	if _, err := c.switches(); err != nil {
		return err
	}
	board, t, err := demoTrial(trials.SurveyName, trials.Survey, append(c.args(), "--ping-every=2s",
		"--pong-within=10s",
		"--history=200", "--notices", "--share", "--origins=http://harbour.example"))
	if err != nil {
		return err
	}
	defer board.stop()
	s := newSurvey(a, t, trials.SurveyName, language.Options{}, surveying{For: defaultFor, Headless: c.Headless,
		Out: c.Out}, spreading{})
	if err := s.compose(); err != nil {
		return err
	}
	return s.carryOut()
}

// demoTrial starts a stand-in and reads the demo's trial against it.
func demoTrial(name string, source []byte, switches []string) (*standinProcess, *trial.Trial, error) {
	board, err := startStandin(switches)
	if err != nil {
		return nil, nil, err
	}
	source = bytes.ReplaceAll(source, []byte("127.0.0.1:7411"), []byte(board.host()))
	t, err := language.Parse(source, name, language.Options{})
	if err != nil {
		board.stop()
		return nil, nil, err
	}
	return board, t, nil
}

// servedTrial reads a trial that starts the stand-in as its server, and has it start this
// program at a port that is free now.
func servedTrial(source []byte, file string, switches []string) (*trial.Trial, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("starting the stand-in: %w", err)
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("looking for a free port: %w", err)
	}
	at := free.Addr().String()
	free.Close()
	t, err := language.Parse(bytes.ReplaceAll(source, []byte("127.0.0.1:7411"), []byte(at)), file, language.Options{})
	if err != nil {
		return nil, err
	}
	t.Server.Command = append(append([]string{self}, t.Server.Command[1:]...), append(switches, "--end-with-input")...)
	return t, nil
}

// writeDemo writes the demo's trial; a file that is there is left alone.
func writeDemo(path string, source []byte) error {
	if path == "-" {
		_, err := os.Stdout.Write(source)
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return fmt.Errorf("writing the demo's trial: %w", err)
	}
	if _, err := f.Write(source); err != nil {
		f.Close()
		return fmt.Errorf("writing the demo's trial: %w", err)
	}
	return f.Close()
}

// A standinProcess is a stand-in in a process of its own, so that what it uses
// is not taken for the tool's.
type standinProcess struct {
	url   string
	cmd   *exec.Cmd
	input io.Closer
}

// host is where it serves, as HOST:PORT.
func (p *standinProcess) host() string {
	return strings.TrimSuffix(strings.TrimPrefix(p.url, "ws://"), "/live")
}

// startStandin starts this program again as a stand-in on a free port, and waits until
// it says where it serves. It ends with its input, so also if this process is killed.
func startStandin(args []string) (*standinProcess, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("starting the stand-in: %w", err)
	}
	cmd := exec.Command(self, append([]string{"standin", "--listen=127.0.0.1:0", "--end-with-input"}, args...)...)
	detach(cmd)
	input, err := cmd.StdinPipe()
	if err != nil {
		return nil, fmt.Errorf("starting the stand-in: %w", err)
	}
	output, err := cmd.StdoutPipe()
	if err != nil {
		return nil, fmt.Errorf("starting the stand-in: %w", err)
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the stand-in: %w", err)
	}
	p := &standinProcess{cmd: cmd, input: input}
	line, err := bufio.NewReader(output).ReadString('\n')
	if _, url, ok := strings.Cut(strings.TrimSpace(line), "serving "); ok && err == nil {
		p.url = url
		return p, nil
	}
	p.stop()
	return nil, fmt.Errorf("the stand-in did not start: it said %q", line)
}

func (p *standinProcess) stop() {
	p.input.Close() // it ends with its input
	p.cmd.Wait()
}
