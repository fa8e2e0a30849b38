package replay

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/capture/recording"
	"tidepull/internal/measure/mark"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/jsonscan"
)

// A Guess is a value of the recording that varies from client to client, or
// from run to run, and what takes its place.
type Guess struct {
	Value string
	Kind  string // "name", "given", "time", "id", "mark", "secret" or "by hand"
	Why   string // what it was guessed from
	// Becomes is the expression of the trial language that gives it.
	Becomes string
	Local   string // of "given": the name under which it is remembered
	Path    string // of "given": where it stands in the server's message, such as "token" or "list.0.id"
	Cookie  string // of "given": the cookie that it is
	Actor   int
	Shared  bool // of "given": other clients than the one that it is given to say it, too
}

// of reports whether a guess is about what a client says.
func (g *Guess) of(a *Actor) bool { return g.Actor == 0 || g.Actor == a.Number || g.Shared }

var (
	uuidForm = regexp.MustCompile(`\b[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}\b`)
	timeForm = regexp.MustCompile(`\b\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:?\d\d)`)
	nameKeys = []string{"name", "user", "username", "nick", "nickname", "login", "callsign", "from", "sender", "who",
		"client"}
	otherWord = regexp.MustCompile(`[^A-Za-z0-9]+`)
)

// inText stands in a path if it goes on in JSON that a text holds.
const inText = "\x1f"

// A leaf is one value of a JSON text.
type leaf struct {
	path  string // members and indexes, joined with dots, or with inText
	key   string // the last member's name
	value string // of a string, or the digits of a number
	text  bool
}

// leaves lists the values of a message that is JSON, behind a few characters or not; nil if
// it is none. JSON in its texts is opened, too.
// Of several records each has its number in front.
func leaves(b []byte) (all []leaf) {
	records := Records(b, false)
	for i, record := range records {
		_, rest := jsonscan.Behind(record)
		v, ok := decoded(rest)
		switch {
		case !ok:
			return nil
		case len(records) == 1:
			walk(&all, "", "", ".", v)
		default:
			walk(&all, strconv.Itoa(i), "", ".", v)
		}
	}
	return all
}

// maxInTexts bounds how deep texts of JSON in texts are opened.
const maxInTexts = 4

func walk(all *[]leaf, path, key, sep string, v any) {
	join := func(next string) string {
		if path == "" {
			return next
		}
		return path + sep + next
	}
	switch v := v.(type) {
	case map[string]any:
		names := make([]string, 0, len(v))
		for name := range v {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			walk(all, join(name), name, ".", v[name])
		}
	case []any:
		for i, e := range v {
			walk(all, join(strconv.Itoa(i)), key, ".", e)
		}
	case string:
		if inner, ok := inString(v); ok && strings.Count(path, inText) < maxInTexts {
			walk(all, path, key, inText, inner)
			return
		}
		*all = append(*all, leaf{path, key, v, true})
	case json.Number:
		*all = append(*all, leaf{path, key, v.String(), false})
	}
}

// leastCookie is how long a cookie's value is that is looked for, and leastWithin a value that is looked for in
// the middle of another: shorter ones stand anywhere.
const (
	leastCookie = 4
	leastWithin = 8
)

// guess finds what varies, and where it is used and given.
func (p *Plan) guess(rec *recording.Recording, o Options) {
	made, err := time.Parse(time.RFC3339, rec.Made)
	if err != nil {
		made = time.Time{}
	}
	for _, value := range slices.Sorted(maps.Keys(o.Vary)) {
		p.Guesses = append(p.Guesses, Guess{Value: value, Kind: "by hand", Why: "you said so", Becomes: o.Vary[value]})
	}
	first := p.givenFirst()
	for _, a := range p.Actors {
		p.guessActor(a, made, o, first)
	}
	// one may stand in another
	slices.SortStableFunc(p.Guesses, func(a, b Guess) int { return len(b.Value) - len(a.Value) })
	for _, a := range p.Actors {
		for i := range a.Steps {
			p.place(a, &a.Steps[i])
		}
	}
}

// given is a value that the server has said.
type given struct {
	path   string
	cookie string
}

// place is where a value stands, in words.
func (g *given) place() string {
	if g.cookie != "" {
		return fmt.Sprintf("as the cookie %q", g.cookie)
	}
	return fmt.Sprintf("in %q", shownPath(g.path))
}

// guessActor finds what varies of what an actor says. first are the values that the server made up.
func (p *Plan) guessActor(a *Actor, made time.Time, o Options, first map[string]givenTo) {
	heard := map[string]given{} // by value: where the server said it first
	said := map[string]bool{}   // values that the client had said before
	hear := func(b []byte, head []http1.Field) {
		eachGiven(b, head, func(value string, g given) {
			if _, known := heard[value]; g.cookie != "" || !known && !said[value] {
				heard[value] = g
			}
		})
	}
	for i := range a.Steps {
		s := &a.Steps[i]
		switch s.Do {
		case Hear:
			hear(s.Payload, nil)
		case Closed:
		default:
			for _, l := range sayings(s) {
				p.judge(a, i, l, heard, made, o, first)
				said[l.value] = true
			}
			hear(s.Answer, s.Head)
		}
	}
}

// eachGiven calls f with each value in what the server says, and in the cookies that it sets, that a client could
// only have from it.
func eachGiven(b []byte, head []http1.Field, f func(value string, g given)) {
	for _, l := range leaves(b) {
		if telling(l) {
			f(l.value, given{path: l.path})
		}
	}
	for _, c := range http1.SetCookies(head) {
		if len(c.Value) >= leastCookie {
			f(c.Value, given{cookie: c.Name})
		}
	}
}

// telling reports whether a value of the server's is one that a client could only
// have from it: long, or with digits, and no plain word.
func telling(l leaf) bool {
	if len(l.value) < 5 {
		return false
	}
	digits := strings.ContainsAny(l.value, "0123456789")
	return digits || len(l.value) >= 16 && !strings.Contains(l.value, " ")
}

// sayings lists the values in what a client sends.
func sayings(s *Step) []leaf {
	all := leaves(s.Payload)
	if all == nil && len(s.Payload) > 0 && !s.Binary {
		all = append(all, words(string(s.Payload))...)
	}
	for _, f := range s.Fields {
		all = append(all, leaf{path: f.Name, key: f.Name, value: strings.TrimPrefix(f.Value, "Bearer "), text: true})
	}
	path, query, _ := strings.Cut(s.Path, "?")
	all = append(all, words(query)...)
	for i, part := range strings.Split(path, "/") {
		all = append(all, leaf{path: fmt.Sprintf("part %d of the path", i), value: part, text: true})
	}
	return all
}

// words takes a text, a form or a query apart.
func words(s string) (all []leaf) {
	for _, pair := range strings.FieldsFunc(s, func(r rune) bool { return strings.ContainsRune("&;, \t", r) }) {
		key, value, ok := strings.Cut(pair, "=")
		if !ok {
			key, value = "", pair
		}
		all = append(all, leaf{path: key, key: key, value: value, text: true})
	}
	return all
}

// judge decides whether a value that the client says varies.
func (p *Plan) judge(a *Actor, i int, l leaf, heard map[string]given, made time.Time, o Options,
	first map[string]givenTo) {

	if slices.Contains(o.Keep, l.value) || l.value == "" || p.known(a, l.value) {
		return
	}
	add := func(kind, value, becomes, why string) {
		if slices.Contains(o.Keep, value) || p.known(a, value) {
			return
		}
		p.Guesses = append(p.Guesses, Guess{Value: value, Kind: kind, Becomes: becomes, Why: why, Actor: a.Number})
	}
	if _, end := mark.Find([]byte(l.value)); end > 0 {
		add("mark", l.value[end-mark.Len:end], "uuid()", "it is a mark of another run")
	}
	if g, ok := heard[l.value]; ok {
		p.give(a, l.value, g)
		return
	}
	within := "" // the longest that stands in it
	for value := range heard {
		if len(value) >= leastWithin && strings.Contains(l.value, value) &&
			cmp.Or(cmp.Compare(len(value), len(within)), cmp.Compare(value, within)) > 0 {
			within = value
		}
	}
	if within != "" {
		p.give(a, within, heard[within])
		return
	}
	if by, ok := first[l.value]; ok && by.to != a && by.at < a.Steps[i].At {
		p.giveToOther(a, l.value, by)
		return
	}
	for _, value := range recording.PlaceholderForm.FindAllString(l.value, -1) {
		name, env := recording.SecretOf(value)
		add("secret", value, "secret."+name, "it was hidden when it was recorded; "+env+" in the environment gives it")
	}
	for _, value := range uuidForm.FindAllString(l.value, -1) {
		add("id", value, "uuid()", "it has the form of a UUID, and the client made it")
	}
	for _, value := range timeForm.FindAllString(l.value, -1) {
		add("time", value, "timestamp()", "it has the form of a time")
	}
	switch {
	case near(l.value, made, time.Millisecond):
		add("time", l.value, "now()", "it is the time of the recording in milliseconds")
	case near(l.value, made, time.Second):
		add("time", l.value, "floor(now() / 1000)", "it is the time of the recording in seconds")
	case l.text && slices.Contains(nameKeys, strings.ToLower(l.key)) && p.comesBack(a, i, l.value):
		add("name", l.value, "name", fmt.Sprintf("the client says it as %q, and the server says it to others", l.key))
	case l.text && l.key == "" && p.setsApart(a, i, l) && p.comesBack(a, i, l.value):
		add("name", l.value, "name", "each client says another one there, and the server says it to others")
	}
}

func (p *Plan) known(a *Actor, value string) bool {
	return slices.ContainsFunc(p.Guesses, func(g Guess) bool {
		return g.Value == value && g.of(a)
	})
}

func (p *Plan) give(a *Actor, value string, g given) {
	if p.known(a, value) {
		return
	}
	last := g.path[strings.LastIndexAny(g.path, "."+inText)+1:]
	if g.cookie != "" {
		last = g.cookie
	}
	local := strings.Trim(otherWord.ReplaceAllString(strings.ToLower(last), "_"), "_")
	if local == "" || local[0] >= '0' && local[0] <= '9' {
		local = "value" + local
	}
	for n := 2; slices.ContainsFunc(p.Guesses, func(other Guess) bool { return other.Local == local }); n++ {
		local = fmt.Sprintf("%s_%d", strings.TrimRight(local, "_0123456789"), n)
	}
	p.Guesses = append(p.Guesses, Guess{Value: value, Kind: "given", Becomes: "my." + local, Local: local, Path: g.path,
		Cookie: g.cookie, Why: "the server gives it " + g.place() + ", and the client says it back", Actor: a.Number})
}

// setsApart reports whether a client says a word where every other one says another: as a
// part of its path, or as the whole of a text.
func (p *Plan) setsApart(a *Actor, step int, l leaf) bool {
	s := &a.Steps[step]
	if !identifier.MatchString(l.value) || s.Do == Say && string(s.Payload) != l.value {
		return false
	}
	deeds := 0 // of the client's, up to this one
	for i := range a.Steps[:step] {
		if a.Steps[i].Do == s.Do {
			deeds++
		}
	}
	others := map[string]bool{l.value: true}
	for _, other := range p.Actors {
		n := 0
		for i := range other.Steps {
			o := &other.Steps[i]
			if o.Do != s.Do {
				continue
			}
			if n++; n <= deeds || other == a {
				continue
			}
			for _, theirs := range sayings(o) {
				if theirs.path == l.path && theirs.key == "" {
					if others[theirs.value] {
						return false
					}
					others[theirs.value] = true
				}
			}
			break
		}
	}
	return len(others) > 1
}

// near reports whether digits are an instant near the time of the recording.
func near(digits string, made time.Time, unit time.Duration) bool {
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || made.IsZero() {
		return false
	}
	return time.Unix(0, n*int64(unit)).Sub(made).Abs() < 24*time.Hour
}

// comesBack reports whether the server says a value after a step, to any actor.
func (p *Plan) comesBack(a *Actor, step int, value string) bool {
	for _, other := range p.Actors {
		for _, s := range other.Steps {
			if s.At < a.Steps[step].At || s.Do == Say || s.Do == Closed {
				continue
			}
			for _, b := range [][]byte{s.Answer, heardIn(&s)} {
				all := leaves(b)
				for _, l := range all {
					if l.text && l.value == value {
						return true
					}
				}
				if all == nil && !s.Binary && len(splitWords(string(b), value)) > 1 {
					return true
				}
			}
		}
	}
	return false
}

func heardIn(s *Step) []byte {
	if s.Do == Hear {
		return s.Payload
	}
	return nil
}

// place finds which guesses a step uses, and which it gives.
func (p *Plan) place(a *Actor, s *Step) {
	for i, g := range p.Guesses {
		if !g.of(a) {
			continue
		}
		if !s.IsHeard() {
			used := strings.Contains(string(s.Payload), g.Value) || strings.Contains(s.Path, g.Value)
			for _, f := range s.Fields {
				used = used || strings.Contains(f.Value, g.Value)
			}
			if used {
				s.Uses = append(s.Uses, i)
			}
		}
		if g.Kind == "given" && g.Actor == a.Number && p.gives(s, &g) {
			s.Gives = append(s.Gives, i)
		}
	}
}

// gives reports whether a step is where a value comes from.
func (p *Plan) gives(s *Step, g *Guess) bool {
	if g.Cookie != "" {
		return slices.ContainsFunc(http1.SetCookies(s.Head),
			func(c http1.Cookie) bool { return c.Name == g.Cookie && c.Value == g.Value })
	}
	for _, b := range [][]byte{s.Answer, heardIn(s)} {
		for _, l := range leaves(b) {
			if l.path == g.Path && l.value == g.Value {
				return true
			}
		}
	}
	return false
}
