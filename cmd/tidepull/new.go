package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"tidepull/internal/capture/recording"
	"tidepull/internal/capture/replay"
	"tidepull/internal/trial/language"
)

type newCommand struct {
	File string `arg:"" help:"The trial that is written; it must not be there."`
	From string `placeholder:"RECORDING" help:"Write what the clients of a recording did, and ask nothing."`
}

// Run asks what a server speaks, by samples, and writes a trial that speaks it.
func (c *newCommand) Run() error {
	var text string
	if c.From != "" {
		f, err := os.Open(c.From)
		if err != nil {
			return err
		}
		defer f.Close()
		rec, err := recording.Read(f)
		if err != nil {
			return fmt.Errorf("%s: %w", c.From, err)
		}
		plan, err := replay.Make(rec.Concealed(), replay.Options{})
		if err != nil {
			return fmt.Errorf("%s: %w", c.From, err)
		}
		text = plan.Trial("first try", 1)
	} else {
		answers, err := askFor(os.Stdin, os.Stdout)
		if err != nil {
			return err
		}
		answers.File = c.File
		text = language.Fresh(answers)
	}
	f, err := os.OpenFile(c.File, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	if _, err = f.WriteString(text); err == nil {
		err = f.Close()
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", c.File, err)
	}
	fmt.Printf("%s is written; try tidepull run %s\n", c.File, c.File)
	_, err = language.Load(c.File, language.Options{})
	return err
}

// askFor asks the questions that a trial follows from.
func askFor(in io.Reader, out io.Writer) (a language.Answers, err error) {
	fmt.Fprintln(out, "Samples of what goes over the wire, with <name>, <room> and <text> where a client's name, a "+
		"room and what\nit says stand. An empty line is something that the server does not have.")
	lines, alone := bufio.NewScanner(in), ""
	for _, q := range []struct {
		question string
		into     *string
	}{
		{"1  the server's address, ws:// or tcp://", &a.Address},
		{"   what it says by itself when a client connects", &a.Greeting},
		{"   what a client must send first of all, before its name", &a.First},
		{"   and what that is answered", &a.Then},
		{"2  how a client says its name, such as {\"kind\":\"name\",\"name\":\"<name>\"}", &a.Name},
		{"   and what it is answered", &a.Named},
		{"3  how it enters a room, such as {\"kind\":\"enter\",\"room\":\"<room>\"}", &a.Enter},
		{"   and what it is answered", &a.Entered},
		{"4  how it says something, such as {\"kind\":\"notice\",\"room\":\"<room>\",\"text\":\"<text>\"}", &a.Say},
		{"5  how the others get that", &a.Received},
		{"   does its sender get it as well? yes or no", &alone},
		{"6  how a room's members are told their number, with <count> for it", &a.Members},
		{"7  what who comes late gets of what was said before", &a.Past},
		{"8  how a private message is said, with <to> for whom it is", &a.Whisper},
		{"9  how the server asks for a sign of life, if by a message", &a.Beat},
		{"   and what that is answered", &a.Alive},
	} {
		fmt.Fprintf(out, "%s\n> ", q.question)
		if !lines.Scan() {
			return a, errors.Join(lines.Err(), errors.New("the answers end before the questions do"))
		}
		*q.into = strings.TrimSpace(lines.Text())
	}
	a.Alone = strings.HasPrefix(strings.ToLower(alone), "n")
	switch {
	case a.Address == "":
		return a, errors.New("without an address there is nothing to try")
	case !strings.Contains(a.Say, "<text>"):
		return a, errors.New("how a client says something has no <text> in it, so that nobody could tell what came")
	}
	return a, nil
}
