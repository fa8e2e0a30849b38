package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/capture/learn"
	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/recording"
	"tidepull/internal/capture/replay"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
)

type newCommand struct {
	File string `arg:"" help:"The trial that is written; it must not be there."`
	From string `placeholder:"RECORDING" help:"Make it of a recording of one client, or two; ask nothing."`
	remote
}

// Run asks what a server speaks, by samples, and writes a trial that speaks it.
func (c *newCommand) Run() error {
	var text string
	switch {
	case c.From != "":
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
		answers, found, err := learn.FromPlan(plan)
		if err != nil {
			fmt.Printf("it is written what the clients did, and not what their messages mean: %v\n", err)
			text = plan.Trial("first try", 1)
			break
		}
		for _, line := range found {
			fmt.Println(plain.Text(line, 300))
		}
		answers.File = c.File
		text = language.Fresh(answers)
	default:
		answers, err := c.askFor(os.Stdin, os.Stdout)
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

// A question is one that a trial follows from.
type question struct {
	text string
	into *string
}

// askFor asks the questions that a trial follows from. Once it is known what clients send it tries that on the
// server, if that is wanted: what comes back is offered as the answer to the rest.
func (c *newCommand) askFor(in io.Reader, out io.Writer) (a language.Answers, err error) {
	fmt.Fprintln(out, "Samples of what goes over the wire, with <name>, <room> and <text> where a client's name, a "+
		"room and what\nit says stand. An empty line is something that the server does not have.")
	lines, try, alone := bufio.NewScanner(in), "", ""
	ask := func(questions ...question) error {
		for _, q := range questions {
			if *q.into != "" {
				q.text += fmt.Sprintf("\n   [%s]", plain.Text(*q.into, 200))
			}
			fmt.Fprintf(out, "%s\n> ", q.text)
			if !lines.Scan() {
				return errors.Join(lines.Err(), errNoAnswer)
			}
			if text := strings.TrimSpace(lines.Text()); text != "" {
				*q.into = text
			}
		}
		return nil
	}
	if err = ask(question{"1  the server's address: ws://, wss://, tcp:// or tls://", &a.Address}); err != nil {
		return a, err
	}
	if strings.HasPrefix(a.Address, "tcp:") || strings.HasPrefix(a.Address, "tls:") {
		err = ask(question{"   how the length in front of each message is written: 1, 2, 4, 2le, 4le or varint; " +
			"nothing " +
			"if messages are lines", &a.Prefix})
	}
	if err != nil {
		return a, err
	}
	if err = ask(question{"2  what a client must send first of all, before its name", &a.First},
		question{"3  how it says its name, such as {\"kind\":\"name\",\"name\":\"<name>\"}", &a.Name},
		question{"4  how it enters a room, such as {\"kind\":\"enter\",\"room\":\"<room>\"}", &a.Enter},
		question{"5  how it says something, such as {\"kind\":\"notice\",\"room\":\"<room>\",\"text\":\"<text>\"}",
			&a.Say},
		question{"6  shall two clients try that on the server now, to see what it answers? yes or no",
			&try}); err != nil {
		return a, err
	}
	if strings.HasPrefix(strings.ToLower(try), "y") {
		if err := c.try(&a, out); err != nil {
			fmt.Fprintf(out, "they could not: %s\n", plain.Text(err.Error(), 300))
		}
	}
	if alone = "yes"; a.Alone {
		alone = "no"
	}
	if err = ask(question{"7  what the server says by itself when a client connects", &a.Greeting},
		question{"8  what is answered to what comes before the name", &a.Then},
		question{"9  what is answered to a name", &a.Named},
		question{"10 what is answered to who enters", &a.Entered},
		question{"11 how the others get what is said", &a.Received},
		question{"12 does its sender get it as well? yes or no", &alone},
		question{"13 how a room's members are told their number, with <count> for it", &a.Members},
		question{"14 what who comes late gets of what was said before", &a.Past},
		question{"15 how a private message is said, with <to> for whom it is", &a.Whisper},
		question{"16 how the server asks for a sign of life, if by a message", &a.Beat},
		question{"17 what that is answered", &a.Alive}); err != nil && lines.Err() != nil {
		return a, err // that the answers end here is an answer: there is no more to say
	}
	err = nil
	a.Alone = strings.HasPrefix(strings.ToLower(alone), "n")
	switch {
	case a.Address == "":
		return a, errors.New("without an address there is nothing to try")
	case !strings.Contains(a.Say, "<text>"):
		return a, errors.New("how a client says something has no <text> in it, so that nobody could tell what came")
	}
	return a, nil
}

var errNoAnswer = errors.New("the answers end before the questions do")

// betweenSteps is how long is waited for what comes of one thing that the two clients do.
const betweenSteps = 400 * time.Millisecond

// try fills in what two clients find out.
func (c *newCommand) try(a *language.Answers, out io.Writer) error {
	if err := c.mayReach("trying it", a.Address, "with two clients"); err != nil {
		return err
	}
	t := probe.Target{URL: a.Address, Prefix: wire.PrefixNamed(a.Prefix)}
	if _, err := probe.ParseURL(t.URL); err != nil {
		return err
	}
	heard, err := learn.Try(context.Background(), t, a, betweenSteps)
	if err != nil {
		return err
	}
	found := learn.Fill(a, &learn.Ours, heard)
	fmt.Fprintf(out, "%d messages came. An empty line takes what stands in brackets.\n", len(heard))
	for _, text := range found {
		fmt.Fprintf(out, "   %s\n", plain.Text(text, 300))
	}
	return nil
}
