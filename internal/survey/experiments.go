// Package survey looks for every weakness of a server that is known of such servers: it composes short
// experiments out of the words of a trial's dialect, and says of each weakness whether it was found, or how rare
// it can be without having been seen, or why it was not looked for.
//
// An experiment is an ordinary trial in the trial language. Experiments have rooms and names of their own.
package survey

import (
	"fmt"
	"strings"
	"time"

	"tidepull/internal/measure/ledger"
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
	// Lacks says why it cannot be composed, and what would allow it; "" if it can.
	Lacks string
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
)

// A recipe makes an experiment.
type recipe struct {
	name, shows string
	rows        []int
	of          Unit
	clients     int // at the most
	session     string
	crew        string                                         // more of the crew
	slack       func(t *trial.Trial) time.Duration             // nil: for as long as the others
	needs       func(t *trial.Trial, p *language.Parts) string // why it cannot be done; "" if it can
}

// needsSay and needsWhisper are for experiments that use these steps.
func needsSay(_ *trial.Trial, p *language.Parts) string {
	if p.Say == "" {
		return "no session of the trial says anything: a say step is what the survey's messages are made of"
	}
	return ""
}

func needsWhisper(_ *trial.Trial, p *language.Parts) string {
	if p.Whisper == "" {
		return "no session of the trial whispers: a whisper step would allow it"
	}
	return ""
}

func needsLeave(t *trial.Trial, p *language.Parts) string {
	if t.Dialect.Leave.Send == nil {
		return "the dialect has no words for leaving a room: leave { send, confirmed } would allow it"
	}
	return needsSay(t, p)
}

// recipes are the experiments, the gentle ones first. In them CONNECT, SAY and WHISPER stand for the trial's own
// steps, ROOM for the name that the experiment's rooms begin with.
var recipes = []recipe{
	{name: "steady", rows: []int{2, 3, 10, 14, 15, 16, 27, 41}, of: Deliveries, clients: 20, needs: needsSay,
		shows: "who gets what is said in four rooms at a steady rate, how soon, and in which order", session: `
  CONNECT
  enter { room = "ROOM-${n % 4}" }
  repeat {
    every = "1s"
    times = 18
    SAY
  }`},
	{name: "one by one", rows: []int{36}, of: Entries, clients: 16, needs: needsSay,
		shows: "whether each client that enters by itself and only listens gets what others say", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  when {
    that = n < 2
    repeat {
      every = "250ms"
      times = 60
      SAY
    }
  }
  otherwise {
    pause { lasts = "12s" }
  }`},
	{name: "crowd", rows: []int{1}, of: Entries, clients: 40, needs: needsSay,
		shows: "whether clients that enter rooms at the same moment all get what is said there", session: `
  CONNECT
  barrier "at the gate" { within = "20s" }
  enter { room = "ROOM-${n % 4}" }
  pause { lasts = "1s" }
  repeat {
    every = "2s"
    times = 5
    SAY
  }`},
	{name: "whispers", rows: []int{4}, of: Messages, clients: 20, needs: needsWhisper,
		shows: "whether private messages reach the one that they are for, and nobody else", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  barrier "all there" { within = "20s" }
  repeat {
    every = "1s"
    times = 10
    WHISPER
  }`},
	{name: "at once", rows: []int{35}, of: Messages, clients: 20, needs: needsSay,
		shows: "whether what a client says at once after it has entered arrives", session: `
  CONNECT
  enter { room = "ROOM" }
  SAY
  SAY
  repeat {
    every = "1s"
    times = 10
    SAY
  }`},
	{name: "leaving", rows: []int{37, 39}, of: Deliveries, clients: 16, needs: needsLeave,
		shows: "whether who leaves a room gets nothing more of it, and the others are told", session: whileOthersSpeak(`
    pause {
      lasts = "1s"
      most  = "4s"
    }
    leave {}
    pause { lasts = "7s" }`)},
	{name: "twice", rows: []int{38}, of: Deliveries, clients: 16, needs: needsLeave,
		shows: "whether who leaves a room and enters it again gets each message once", session: whileOthersSpeak(`
    pause { lasts = "1s" }
    leave {}
    enter { room = "ROOM" }
    pause { lasts = "9s" }`)},
	{name: "bursts", rows: []int{32}, of: Messages, clients: 16, needs: needsSay,
		shows: "whether messages that are said at the same moment all arrive, and in order", session: `
  CONNECT
  enter { room = "ROOM" }
  repeat {
    every = "1s"
    times = 7
    SAY
  }
  barrier "first burst" { within = "20s" }
  SAY
  SAY
  SAY
  pause { lasts = "2s" }
  barrier "second burst" { within = "20s" }
  SAY
  SAY
  pause { lasts = "2s" }
  barrier "third burst" { within = "20s" }
  SAY
  pause { lasts = "7s" }`},
	{name: "vanishing", rows: []int{5}, of: Entries, clients: 16, needs: needsSay,
		shows: "whether clients that go without a word are taken out of their rooms, and numbers are right after it",
		session: whileOthersSpeak(`
    pause {
      lasts = "1s"
      most  = "4s"
    }
    vanish {}`)},
	{name: "late comers", rows: []int{11}, of: Entries, clients: 24, needs: needsHistory,
		shows: "whether who comes late gets the history that is promised, and what goes on joins it", session: `
  CONNECT
  when {
    that = n < 4
    enter { room = "ROOM" }
    repeat {
      every = "400ms"
      times = 32
      SAY
    }
  }
  otherwise {
    pause {
      lasts = "3s"
      most  = "9s"
    }
    enter {
      room    = "ROOM"
      history = HISTORY
    }
    pause { lasts = "4s" }
  }`},
	{name: "signs of life", rows: []int{6, 7, 8}, of: Entries, clients: 20, needs: needsPromise,
		shows: "whether clients that give no sign of life are closed by the deadline, and the others are not",
		session: `
  CONNECT
  enter { room = "ROOM" }
  pause { lasts = "10m" }`, crew: `
  misbehave {
    do    = "silent"
    share = "40%"
    after = "1s"
  }`, slack: func(t *trial.Trial) time.Duration {
			p := t.Target.Promise
			return max(slackOf, p.Deadline+3*p.Every+4*time.Second)
		}},
	{name: "bad frames", rows: []int{28, 42}, of: Entries, clients: 16, needs: needsWebSocket,
		shows: "whether clients that break the protocol are closed with the right code, and the others notice " +
			"nothing",
		session: `
  CONNECT
  enter { room = "ROOM" }
  barrier "all there" { within = "20s" }
  when {
    that = n % 2 == 0
    pause { lasts = "10m" }
  }
  otherwise {
    pause {
      lasts = "1s"
      most  = "8s"
    }
    choose {
      option {
        malformed {
          what   = "reserved bits"
          within = "3s"
        }
      }
      option {
        malformed {
          what   = "bad text"
          within = "3s"
        }
      }
      option {
        malformed {
          what   = "stray fragment"
          within = "3s"
        }
      }
    }
  }`},
}

// whileOthersSpeak has every other client of a room speak, and the rest do something else.
func whileOthersSpeak(steps string) string {
	return `
  CONNECT
  enter { room = "ROOM" }
  barrier "all there" { within = "20s" }
  when {
    that = n % 2 == 0
    repeat {
      every = "400ms"
      times = 30
      SAY
    }
  }
  otherwise {` + steps + `
  }`
}

// slackOf is for how long the clients of an experiment stay, if it does not say.
const slackOf = 14 * time.Second

func needsPromise(t *trial.Trial, _ *language.Parts) string {
	p := t.Target.Promise
	if p == nil || p.Deadline == 0 {
		return "the target promises nothing of heartbeats: promise { from, every, deadline } would allow it"
	}
	if p.Deadline > longestDeadline {
		return fmt.Sprintf("the deadline of the promise is %v, and the survey waits for %v at the most", p.Deadline,
			longestDeadline)
	}
	return ""
}

const longestDeadline = 40 * time.Second

func needsHistory(_ *trial.Trial, p *language.Parts) string {
	if p.History == "" {
		return "no session of the trial enters with a history: enter { history } would allow it"
	}
	return needsSay(nil, p)
}

func needsWebSocket(t *trial.Trial, _ *language.Parts) string {
	if t.Target.Route(0).Kind != trial.WebSocket {
		return "its frames are those of WebSocket, and the target is none"
	}
	return ""
}

// Compose makes the experiments of a survey of the server that a trial is about. The tag is part of the names of rooms
// and clients: it is another one each time. Clients are how many there are at the most; 0: as many as each
// experiment wants.
func Compose(t *trial.Trial, p *language.Parts, tag string, clients int) []Experiment {
	var all []Experiment
	for _, r := range recipes {
		e := Experiment{Name: r.name, Rows: r.rows, Shows: r.shows, Of: r.of, Lacks: r.needs(t, p)}
		if t.Dialect.Enter.Send == nil { // rooms follow from the path, or from nothing
			e.Lacks = "the dialect has no words for entering a room, so that the survey cannot have rooms of " +
				"its own: enter { send, confirmed } would allow it"
		}
		if e.Lacks == "" {
			n := r.clients
			if clients > 0 {
				n = max(4, min(n, clients))
			}
			e.Source = r.source(t, p, tag, n)
		}
		e.Blind = map[int]string{}
		for _, n := range e.Rows {
			if see := sees[n]; see != nil {
				if why := see(t, p); why != "" {
					e.Blind[n] = why
				}
			}
		}
		all = append(all, e)
	}
	return all
}

// sees says what of a trial's words a weakness cannot be seen without, by its number; "" if they are there.
var sees = map[int]func(t *trial.Trial, p *language.Parts) string{
	5:  seesNumbers,
	27: seesNumbers,
	14: func(t *trial.Trial, _ *language.Parts) string {
		return unless(t.Target.Order != ledger.AnyOrder,
			`the target promises no order: order = "sender" would allow it`)
	},
	15: func(t *trial.Trial, _ *language.Parts) string {
		return unless(t.Target.Order == ledger.SameOrder,
			`the target does not promise the same order to all: order = "same" would allow it`)
	},
	16: func(_ *trial.Trial, p *language.Parts) string {
		return unless(strings.Contains(p.Say, "payload"),
			"what is said is not compared with what comes: a payload in the say step would allow it")
	},
	39: func(t *trial.Trial, _ *language.Parts) string {
		return unless(t.Dialect.Gone.When != nil,
			"the dialect does not say how the others are told who leaves: gone { when, name } would allow it")
	},
}

func seesNumbers(t *trial.Trial, _ *language.Parts) string {
	p := &t.Dialect.Presence
	return unless(p.When != nil || p.Names != nil,
		"the dialect does not say how clients are told who is there: presence { when, members } would allow it")
}

func unless(is bool, why string) string {
	if is {
		return ""
	}
	return why
}

func (r *recipe) source(t *trial.Trial, p *language.Parts, tag string, clients int) []byte {
	slack := slackOf
	if r.slack != nil {
		slack = r.slack(t)
	}
	word := strings.ReplaceAll(r.name, " ", "-")
	name := fmt.Sprintf("%s-%s-${n}", tag, word)
	whisper := fmt.Sprintf("whisper {\n      to = \"%s-%s-${(n + 1) %% %d}\"\n%s\n    }", tag, word, clients, p.Whisper)
	session := strings.NewReplacer("CONNECT", p.Connect, "SAY", "say {"+p.Say+"}", "WHISPER", whisper, "HISTORY",
		p.History, "ROOM",
		fmt.Sprintf("%s-%s", tag, word)).Replace(r.session)
	return fmt.Appendf(nil, `# Shows %s.

trial "survey: %s" {}

%s

session "survey" {%s
}

crew "survey" {
  clients = %d
  session = session.survey
  name    = "%s"%s
}

tide {
  flood "100%%" { over = "2s" }
  slack { lasts = "%v" }
  ebb { over = "1s" }
}
`, r.shows, r.name, p.Shared, session, clients, name, r.crew, slack)
}
