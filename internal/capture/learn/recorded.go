package learn

import (
	"cmp"
	"encoding/json"
	"errors"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidepull/internal/capture/replay"
	"tidepull/internal/trial/language"
)

// A said is one message that a client of a recording said or got.
type said struct {
	at   time.Duration
	out  bool
	text string
}

// ErrNoRelay is why nothing can be learnt of a recording.
var ErrNoRelay = errors.New("no client said anything that another one got")

// FromPlan finds out of a recording of two clients that work together what clients say, and what is answered: the
// message of one that came to the other shows how something is said and got, what both said in the same form how a name
// is given and a room entered. It says in words what it found. An error is ErrNoRelay.
func FromPlan(p *replay.Plan) (a language.Answers, found []string, err error) {
	var all [][]said
	var actors []*replay.Actor
	for _, actor := range p.Actors {
		if actor.Speech == replay.Requests {
			continue
		}
		var heard []said
		for i := range actor.Steps {
			if s := &actor.Steps[i]; (s.Do == replay.Say || s.Do == replay.Hear) && !s.Binary {
				heard = append(heard, said{s.At, s.Do == replay.Say, string(s.Payload)})
			}
		}
		all, actors = append(all, heard), append(actors, actor)
	}
	best := relay{}
	for i := range all {
		for k := range all {
			if i == k {
				continue
			}
			if r := relayed(all[i], all[k]); len(r.text) > len(best.text) {
				best = r
				best.from, best.to = i, k
			}
		}
	}
	if best.text == "" {
		return a, nil, ErrNoRelay
	}
	first, second := all[best.from], all[best.to]
	given := Given{Text: best.text}
	a.Address, a.Prefix = addressOf(p, actors[best.from])
	heard := given.find(&a, first, second, best.at)
	a.Say = given.templated(first[best.at].text)
	found = append(found, "something is said as: "+a.Say)
	for _, said := range []struct{ what, sample string }{{"first comes", a.First}, {"a name is said as", a.Name},
		{"a room is entered by", a.Enter}} {
		if said.sample != "" {
			found = append(found, said.what+": "+said.sample)
		}
	}
	return a, append(found, Fill(&a, &given, heard)...), nil
}

// A relay is a text that one client said and another got.
type relay struct {
	from, to int
	at       int // which message of the first
	text     string
}

// relayedWithin is how soon after it was said something must have come to another client.
const relayedWithin = 5 * time.Second

// relayed finds the longest text in what one client said, and nobody had said before, that another one got soon after.
func relayed(from, to []said) (best relay) {
	for i := range from {
		if !from[i].out {
			continue
		}
		for _, v := range texts(from[i].text) {
			if len(v) < 3 || len(v) <= len(best.text) || saidBefore(from[:i], v) || saidBy(to, v) {
				continue
			}
			if slices.ContainsFunc(to, func(s said) bool {
				return !s.out && s.at >= from[i].at && s.at < from[i].at+relayedWithin && strings.Contains(s.text, v)
			}) {
				best = relay{at: i, text: v}
			}
		}
	}
	return best
}

func saidBefore(all []said, v string) bool {
	return slices.ContainsFunc(all, func(s said) bool { return strings.Contains(s.text, v) })
}

func saidBy(all []said, v string) bool {
	return slices.ContainsFunc(all, func(s said) bool { return s.out && strings.Contains(s.text, v) })
}

// find finds who the clients are and where they meet, fills in what they said for that, and gives what came by what had
// been done.
func (g *Given) find(a *language.Answers, first, second []said, say int) []Heard {
	named, entered := -1, -1
	other := map[int]int{}
	var rooms []string
	for i := range say {
		if !first[i].out {
			continue
		}
		k := slices.IndexFunc(second, func(s said) bool { return s.out && formOf(s.text) == formOf(first[i].text) })
		if k < 0 {
			continue
		}
		other[i] = k
		mine, theirs := texts(first[i].text), texts(second[k].text)
		for n := range min(len(mine), len(theirs)) {
			switch {
			case mine[n] != theirs[n] && named < 0:
				named, g.Names = i, [2]string{mine[n], theirs[n]}
			case mine[n] == theirs[n] && i != named && len(mine[n]) > 1:
				rooms = append(rooms, mine[n])
				if entered < 0 || slices.Contains(texts(first[say].text), mine[n]) {
					entered, g.Room = i, mine[n]
				}
			}
		}
	}
	if entered >= 0 && !slices.Contains(texts(first[say].text), g.Room) && len(rooms) > 0 {
		g.Room = rooms[0]
	}
	// When each had been done; never, if it was not.
	const never = time.Duration(1<<63 - 1)
	at := func(all []said, i int) time.Duration {
		if i < 0 {
			return never
		}
		return all[i].at
	}
	of := func(i int) time.Duration {
		if k, both := other[i]; both {
			return second[k].at
		}
		return never
	}
	began := slices.IndexFunc(first, func(s said) bool { return s.out })
	if began != named && began != entered && began != say {
		a.First = g.templated(first[began].text)
	} else {
		began = -1
	}
	if named >= 0 {
		a.Name = g.templated(first[named].text)
	}
	if entered >= 0 {
		a.Enter = g.templated(first[entered].text)
	}
	bounds := []struct {
		step Step
		at   time.Duration
	}{{Begins, at(first, began)}, {FirstNames, at(first, named)}, {FirstEnters, at(first, entered)},
		{SecondEnters, max(at(first, entered), of(entered))}, {Says, first[say].at}}
	confirmed := entered < 0
	var heard []Heard
	for client, all := range [][]said{first, second} {
		for _, s := range all {
			h := Heard{Client: client, Step: Connects, Text: s.text}
			for _, b := range bounds {
				if s.at >= b.at {
					h.Step = b.step
				}
			}
			if client == 0 && !s.out && h.Step == SecondEnters && !confirmed {
				h.Step = FirstEnters // who enters second is answered first, and then told how many there are
			}
			confirmed = confirmed || !s.out && h.Step == FirstEnters
			switch {
			case client == 0 || h.Step == Says:
			case h.Step == SecondEnters && of(entered) < at(first, entered):
				h.Client = 0 // who was there is told how many there are now
			default: // its own answers are the same as those of the first
				h.Step = SecondNames
			}
			if !s.out && len(heard) < most {
				heard = append(heard, h)
			}
		}
	}
	return heard
}

// texts are what a client can have chosen in a message: the texts in JSON that do not say of which kind it is, or, of
// what is no JSON, the rest of a line from each word but the first on.
func texts(message string) (all []string) {
	if v, _, is := jsonIn(message); is {
		eachText(v, "", func(name, text string) {
			if !language.NamesKind(name) {
				all = append(all, text)
			}
		})
		return all
	}
	words := strings.Fields(message)
	for i := 1; i < len(words); i++ {
		all = append(all, words[i])
	}
	for i := 1; i < len(words)-1; i++ {
		if rest := strings.Join(words[i:], " "); strings.Contains(message, rest) {
			all = append(all, rest)
		}
	}
	return all
}

// jsonIn gives the value in a message of JSON, and the digits in front of it.
func jsonIn(message string) (v any, digits string, is bool) {
	text := strings.TrimLeft(message, "0123456789")
	is = json.Unmarshal([]byte(text), &v) == nil
	return v, message[:len(message)-len(text)], is
}

// eachText calls f with every text in a value of JSON, in an order that is always the same.
func eachText(v any, name string, f func(name, text string)) {
	switch v := v.(type) {
	case string:
		f(name, v)
	case []any:
		for i, item := range v {
			at := ""
			if i == 0 {
				at = "0"
			}
			eachText(item, at, f)
		}
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(v)) {
			eachText(v[k], k, f)
		}
	}
}

// formOf is what messages of one kind have in common: their fields and what says of which kind they are, or the first
// word.
func formOf(message string) string {
	v, digits, is := jsonIn(message)
	if !is {
		word, _, _ := strings.Cut(message, " ")
		return word
	}
	var b strings.Builder
	b.WriteString(digits)
	eachText(v, "", func(name, text string) {
		b.WriteString(name + "=")
		if language.NamesKind(name) {
			b.WriteString(text)
		}
		b.WriteString("\n")
	})
	return b.String()
}

// addressOf is where a client of a recording connected to, and how lengths are written in front of its messages.
func addressOf(p *replay.Plan, a *replay.Actor) (address, prefix string) {
	u, err := url.Parse(p.Target)
	if err != nil {
		return p.Target, ""
	}
	switch a.Speech {
	case replay.Lines, replay.Bytes, replay.Messages:
		return "tcp://" + u.Host, a.Ends.Prefix.String()
	}
	path := u.Path
	for _, s := range a.Steps {
		if s.Do == replay.Connect && path == "" {
			path, _, _ = strings.Cut(s.Path, "?")
		}
	}
	scheme := "ws"
	if u.Scheme == "https" || u.Scheme == "wss" {
		scheme = "wss"
	}
	return scheme + "://" + u.Host + cmp.Or(path, "/"), ""
}
