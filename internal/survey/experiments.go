// Package survey looks for every weakness of a server that is known of such servers: it composes short
// experiments out of the words of a trial's dialect, and says of each weakness whether it was found, or how rare
// it can be without having been seen, or why it was not looked for.
//
// An experiment is an ordinary trial in the trial language. Experiments have rooms and names of their own.
package survey

import (
	"cmp"
	"fmt"
	"regexp"
	"strings"
	"time"

	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// An Experiment is one trial of a survey.
type Experiment struct {
	Name  string
	Rows  []int // the weaknesses that it is about, by number
	Shows string
	// Of is what the weaknesses are counted in, for how rare they can be without being seen.
	Of     Unit
	Source []byte
	// Harsh is set if the server has to be seen to be well again after it.
	Harsh bool
	// Harm says what it does to the server besides what clients do anyway; "": nothing.
	Harm string
	// Relays is set if it is about what becomes of some texts: that they come as they are, or changed, is a note.
	Relays bool
	// Lacks says why it cannot be composed, and what would allow it; "" if it can.
	Lacks string
	// LeftOut is set if it is not asked for; Lacks says so.
	LeftOut bool
	// Blind says of weaknesses that it is about and would not show with these words, what would make it.
	Blind map[int]string
}

// A Unit is what chances for a weakness are counted in.
type Unit string

// The units.
const (
	Deliveries Unit = "deliveries"
	Entries    Unit = "entries"
	Messages   Unit = "messages"
	Refusals   Unit = "things to refuse"
)

// A recipe makes an experiment.
type recipe struct {
	name, shows string
	rows        []int
	of          Unit
	clients     int // at the most
	least       int // clients that it takes
	session     string
	who         string                                         // the end of a client's name; "": its number
	asItIs      bool                                           // its sessions are the trial's
	ownRooms    bool                                           // it needs rooms that nobody has been in, or several
	crew        string                                         // more of the crew
	more        func(t *trial.Trial, p *language.Parts) string // more blocks of the trial: faults, sessions, crews
	whole       func(t *trial.Trial, p *language.Parts) string // instead of session and crew: all of these blocks
	lasts       time.Duration                                  // how long the clients stay; 0: slackOf
	slack       func(t *trial.Trial) time.Duration             // instead of lasts
	relays      bool
	patient     bool // what the server does may take it some time
	harm        string
	harsh       bool                                           // the server has to be well again after it
	needs       func(t *trial.Trial, p *language.Parts) string // why it cannot be done; "" if it can
}

// Options are how experiments are made.
type Options struct {
	// Tag is part of the names of rooms and clients: it is another one each time.
	Tag string
	// Clients are how many there are at the most; 0: as many as each experiment wants.
	Clients int
	// TrialRooms has them be in the rooms of the trial, and TrialNames under its names: of a server that knows no
	// others. The rooms are the trial's anyway if the dialect has no words for entering one.
	TrialRooms, TrialNames bool
}

// slackOf is for how long the clients of an experiment stay, if it does not say.
const slackOf = 12 * time.Second

// What has not come by then is lost.
const (
	graceOf      = 3 * time.Second
	graceOfHarsh = 5 * time.Second
)

// Compose makes the experiments of a survey of the server that a trial is about.
func Compose(t *trial.Trial, p *language.Parts, o Options) []Experiment {
	var all []Experiment
	for _, r := range recipes {
		e := Experiment{Name: r.name, Rows: r.rows, Shows: r.shows, Of: r.of, Harsh: r.harsh, Relays: r.relays,
			Harm: r.harm}
		n := r.clients
		if o.Clients > 0 {
			n = max(4, min(n, o.Clients))
		}
		if o.TrialNames {
			n = min(n, clientsOf(t, p.Crew))
		}
		e.Lacks = cmp.Or(r.needs(t, p), r.needsOfOwn(t, p, &o), unless(n >= r.least,
			fmt.Sprintf("it takes %d clients at a time: a larger --clients would allow it", r.least)))
		if e.Lacks == "" {
			e.Source = r.source(t, p, &o, n)
		}
		e.Blind = map[int]string{}
		for _, n := range e.Rows {
			why := unseenIn(t, p, &o, n)
			if see := sees[n]; why == "" && see != nil {
				why = see(t, p)
			}
			if why != "" {
				e.Blind[n] = why
			}
		}
		all = append(all, e)
	}
	return all
}

// source writes the experiment.
func (r *recipe) source(t *trial.Trial, p *language.Parts, o *Options, clients int) []byte {
	slack, grace := cmp.Or(r.lasts, slackOf), graceOf
	if r.harsh || r.patient { // it may have much to work through, or wait whether somebody comes back
		grace = graceOfHarsh
	}
	if r.slack != nil {
		slack = r.slack(t)
	}
	shared := p.Shared(unjudgedIn(t, o)...)
	word := o.Tag + "-" + strings.ReplaceAll(r.name, " ", "-")
	crew, name := "survey", fmt.Sprintf("\"%s-%s\"", word, cmp.Or(r.who, "${n}"))
	to := fmt.Sprintf("\"%s-${(n + 1) %% %d}\"", word, clients)
	if o.TrialNames {
		crew, name, to = p.Crew, cmp.Or(p.Name, `"${crew}-${n}"`), p.To
	}
	whisper := fmt.Sprintf("whisper {\n      to = %s\n%s\n    }", to, p.Whisper)
	words := strings.NewReplacer("BYE", p.Goodbye, "SLOWLY", slowly(p), "RESTARTING", restarting(p), "BADLY", badly(),
		"AT_THE_GATE", gate(t, p),
		"CONNECT", p.Connect, "SAY", "say {"+p.Say+"}", "WHISPER", whisper, "HISTORY", p.History,
		"RECONNECT", p.Reconnect, "ROOM", word)
	put := func(text string) string {
		if o.HasTrialRooms(t) {
			text = inRoom.ReplaceAllLiteralString(text, "room = "+p.Room)
		}
		text = saying.ReplaceAllStringFunc(text, func(m string) string {
			return "say {" + strings.Replace(p.More, language.MoreText, saying.FindStringSubmatch(m)[1], 1) + "}"
		})
		return words.Replace(text)
	}
	blocks := ""
	if r.whole != nil {
		blocks = put(r.whole(t, p))
	} else {
		blocks = fmt.Sprintf("session \"survey\" {%s\n}\n\ncrew \"%s\" {\n  clients = %d\n  session = "+
			"session.survey\n  name    = %s%s%s\n}", put(r.session), crew, clients, name, firstRoute(t), put(r.crew))
	}
	if r.more != nil {
		blocks += "\n" + put(r.more(t, p))
	}
	return fmt.Appendf(nil, `# Shows %s.

trial "survey: %s" {
  grace = "%v"
}

%s

%s

tide {
  flood "100%%" { over = "1s" }
  slack { lasts = "%v" }
  ebb { over = "500ms" }
}
`, r.shows, r.name, grace, shared, blocks, slack)
}

// firstRoute has clients keep to the best route, if there are several: what happens to them is then of one transport.
func firstRoute(t *trial.Trial) string {
	if len(t.Target.Routes) < 2 {
		return ""
	}
	return fmt.Sprintf("\n  routes  = [%q]", t.Target.Route(0).Name)
}

// saying is where an experiment says more than the trial does: SAY[what is said besides].
var saying = regexp.MustCompile(`SAY\[([^\]]*)\]`)
