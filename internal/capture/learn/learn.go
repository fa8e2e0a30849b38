// Package learn tries a server with two clients that do what they are given, and finds out of what comes how it
// answers: its greeting, its confirmations, how others get what one says, how it tells how many are there.
package learn

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"tidepull/internal/capture/probe"
	"tidepull/internal/trial/language"
)

// A Step is what the two clients had done last when something came.
type Step uint8

// The steps, in their order.
const (
	Connects Step = iota
	Begins        // both send what comes before a name
	FirstNames
	SecondNames
	FirstEnters
	SecondEnters
	Says // the first one does
	Closes
)

// A Heard is one message that came to one of them.
type Heard struct {
	Client int // 0 or 1
	Step   Step
	Text   string
}

// Given is who two clients are, where they meet, and what the first one says.
type Given struct {
	Names      [2]string // "": it says no name
	Room, Text string
}

// Ours are what they are given to say: texts that hardly stand in anything else.
var Ours = Given{[2]string{"Alder-7q", "Birch-8q"}, "lock-9q", "berth 6q is free"}

// most bounds the messages that are looked at, and of each the bytes.
const (
	most     = 200
	mostText = 4 << 10
)

// Try has two clients connect to a server and do what the answers say that clients do, one thing after another, and
// gives what came. An error says why they could not.
func Try(ctx context.Context, t probe.Target, a *language.Answers, pause time.Duration) (all []Heard, err error) {
	var mu sync.Mutex
	step := Connects
	var refused string
	hear := func(client int) func(probe.Event) {
		return func(e probe.Event) {
			mu.Lock()
			defer mu.Unlock()
			switch {
			case e.What == probe.Refused && refused == "":
				refused = e.Why
			case e.What == probe.In && len(e.Message) > 0 && !e.Binary && len(all) < most:
				all = append(all, Heard{client, step, string(e.Message[:min(len(e.Message), mostText)])})
			}
		}
	}
	lines := [2]*probe.Line{probe.Dial(0, t, hear(0)), nil}
	lines[1] = probe.Dial(1, t, hear(1))
	defer func() {
		for _, l := range lines {
			l.Hangup()
		}
	}()
	wait := func(next Step) error {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		mu.Lock()
		defer mu.Unlock()
		if step = next; refused != "" {
			return errors.New(refused)
		}
		return nil
	}
	say := func(client int, sample string) error {
		if sample == "" {
			return nil
		}
		return lines[client].Send([]byte(strings.NewReplacer("<name>", Ours.Names[client], "<room>", Ours.Room,
			"<text>", Ours.Text).Replace(sample)), false)
	}
	if err := wait(Connects); err != nil {
		return nil, err
	}
	if a.First != "" {
		if err := wait(Begins); err != nil {
			return nil, err
		}
		if err := errors.Join(say(0, a.First), say(1, a.First)); err != nil {
			return nil, err
		}
	}
	for _, next := range []struct {
		step   Step
		client int
		sample string
	}{{FirstNames, 0, a.Name}, {SecondNames, 1, a.Name}, {FirstEnters, 0, a.Enter}, {SecondEnters, 1, a.Enter},
		{Says, 0, a.Say}} {
		if err := wait(next.step); err != nil {
			return nil, err
		}
		if err := say(next.client, next.sample); err != nil {
			return nil, fmt.Errorf("client %d: %w", next.client+1, err)
		}
	}
	if err := wait(Closes); err != nil {
		return nil, err
	}
	mu.Lock()
	defer mu.Unlock()
	return slices.Clone(all), nil
}

// Fill fills in of the answers what they leave open, out of what came to two clients; what is given stays. It says in
// words what it found.
func Fill(a *language.Answers, by *Given, all []Heard) (found []string) {
	text := by.Text
	used := map[int]bool{}
	find := func(what string, into *string, is func(h *Heard) bool, as func(h *Heard) string) {
		if *into != "" {
			return
		}
		for i := range all {
			if h := &all[i]; !used[i] && is(h) {
				used[i] = true
				*into = as(h)
				found = append(found, what+": "+*into)
				return
			}
		}
	}
	sample := func(h *Heard) string { return by.templated(h.Text) }
	find("others get what is said as", &a.Received, func(h *Heard) bool {
		return h.Client == 1 && h.Step == Says && strings.Contains(h.Text, text)
	}, sample)
	own := slices.ContainsFunc(all, func(h Heard) bool {
		return h.Client == 0 && h.Step == Says && strings.Contains(h.Text, text)
	})
	if a.Alone = a.Received != "" && !own; a.Alone {
		found = append(found, "its sender does not get it")
	}
	find("when a client connects it says", &a.Greeting,
		func(h *Heard) bool { return h.Client == 0 && h.Step == Connects }, sample)
	find("it tells how many are in a room as", &a.Members, func(h *Heard) bool {
		return h.Client == 0 && h.Step == SecondEnters && a.Enter != "" && by.counted(h.Text) != ""
	}, func(h *Heard) string { return by.counted(h.Text) })
	if a.First != "" {
		find("what comes before a name is answered by", &a.Then,
			func(h *Heard) bool { return h.Client == 0 && h.Step == Begins }, sample)
	}
	if a.Name != "" {
		find("a name is confirmed by", &a.Named, func(h *Heard) bool { return h.Client == 0 && h.Step == FirstNames },
			sample)
	}
	if a.Enter != "" {
		// The answer to who enters is told that one alone, or at least when it does.
		find("a room is confirmed by", &a.Entered, func(h *Heard) bool {
			return h.Client == 0 && h.Step == FirstEnters && (a.Members == "" || by.counted(h.Text) == "" ||
				!strings.HasPrefix(a.Members, h.Text[:min(len(h.Text), 12)]))
		}, sample)
	}
	for i := range all {
		if !used[i] {
			a.Others = append(a.Others, sample(&all[i]))
		}
	}
	return found
}

// templated puts placeholders where what the clients gave stands in a message as a word of its own.
func (g *Given) templated(message string) string {
	for _, r := range [][2]string{{g.Text, "<text>"}, {g.Names[0], "<name>"}, {g.Names[1], "<name>"},
		{g.Room, "<room>"}} {
		message = replaceWord(message, r[0], r[1])
	}
	return message
}

// replaceWord replaces a text wherever no letter or digit stands beside it.
func replaceWord(s, word, with string) string {
	if word == "" {
		return s
	}
	var b strings.Builder
	for {
		at := strings.Index(s, word)
		if at < 0 {
			b.WriteString(s)
			return b.String()
		}
		before, _ := utf8.DecodeLastRuneInString(s[:at])
		after, _ := utf8.DecodeRuneInString(s[at+len(word):])
		b.WriteString(s[:at])
		if isWord(before) || isWord(after) {
			b.WriteString(word)
		} else {
			b.WriteString(with)
		}
		s = s[at+len(word):]
	}
}

func isWord(r rune) bool { return r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r)) }

// whole is the number two as a value of JSON, and wholeWord as a word of a text.
var (
	whole     = regexp.MustCompile(`([:,\[]\s*)2(\s*[,\]}])`)
	wholeWord = regexp.MustCompile(`(^|\s)2(\s|$)`)
)

// counted is a message with <count> where the number of members stands, which is two; "" if it is none: it has that
// number once, and, if it is no JSON, names the room.
func (g *Given) counted(message string) string {
	is := whole
	if !json.Valid([]byte(strings.TrimLeft(message, "0123456789"))) {
		if is = wholeWord; g.Room == "" || !strings.Contains(message, g.Room) {
			return ""
		}
	}
	if len(is.FindAllString(message, -1)) != 1 {
		return ""
	}
	return is.ReplaceAllString(g.templated(message), "${1}<count>${2}")
}
