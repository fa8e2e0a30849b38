package survey

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// needsSay and needsWhisper are for experiments that use these steps.
func needsSay(_ *trial.Trial, p *language.Parts) string {
	return unless(p.Say != "",
		"no session of the trial says anything: a say step is what the survey's messages are made of")
}

func needsWhisper(_ *trial.Trial, p *language.Parts) string {
	return unless(p.Whisper != "", "no session of the trial whispers: a whisper step would allow it")
}

func needsLeave(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(unless(t.Dialect.Leave.Send != nil,
		"the dialect has no words for leaving a room: leave { send, confirmed } would allow it"), needsSay(t, p))
}

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

func needsHistory(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(unless(p.History != "",
		"no session of the trial enters with a history: enter { history } would allow it"), needsSay(t, p))
}

func needsWebSocket(t *trial.Trial, _ *language.Parts) string {
	return unless(t.Target.Route(0).Kind == trial.WebSocket,
		"its frames are those of WebSocket, and the target is none")
}

func needsNames(t *trial.Trial, _ *language.Parts) string {
	return unless(t.Dialect.Naming.Send != nil,
		"clients do not say their names in this dialect: name { send, confirmed } would allow it")
}

func needsMore(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(needsSay(t, p), unless(p.More != "", "what is said has no text that can be longer: a payload in "+
		"the say step, or words around its ${mark}, would allow it"))
}

func needsText(t *trial.Trial, p *language.Parts) string {
	return unless(p.MoreIsText, "what is said has no text that can be any: a payload in the say step, in a body that "+
		"is an object, would allow it")
}

func needsRoutes(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(unless(len(t.Target.Routes) > 1, "the target has one transport: a route block would allow it"),
		needsSay(t, p))
}

func needsNodes(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(unless(len(t.Target.Nodes) > 1, "the target is one server: nodes would allow it"), needsSay(t, p))
}

func needsStream(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(unless(t.Target.Route(0).Kind != trial.OverUDP, "datagrams are not cut, or glued together"),
		needsSay(t, p))
}

func needsReturn(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(unless(p.Reconnect != "", "the trial does not say that who comes back gets what it missed: "+
		"reconnect { catch_up = true } in a crew would allow it"), needsSay(t, p))
}

func needsServer(t *trial.Trial, _ *language.Parts) string {
	return unless(t.Server != nil, "the server's process is not known: server { pid } or server { command } would "+
		"allow it")
}

func needsRestart(t *trial.Trial, p *language.Parts) string {
	return cmp.Or(unless(t.Server != nil && len(t.Server.Command) > 0 || p.Restart != "", "it is not known how the "+
		"server is restarted: server { command }, or a request \"restart\" in a session, would allow it"), needsSay(t,
		p))
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
	22: func(_ *trial.Trial, p *language.Parts) string {
		return unless(p.Goodbye != "",
			"the trial does not say how the server has to close connections when it ends: expect_close would allow it")
	},
	29: func(_ *trial.Trial, p *language.Parts) string {
		return unless(p.SlowReader != "", "the trial does not say that the server closes who reads slowly: "+
			"read_slowly { evicted_within } would allow it")
	},
	34: func(t *trial.Trial, _ *language.Parts) string {
		return unless(t.Dialect.Heard.Seq != nil,
			"messages have no numbers: seq in heard would allow it")
	},
	18: func(_ *trial.Trial, p *language.Parts) string {
		return unless(strings.Contains(p.Doors, "origin"),
			"the trial does not say which origin must be refused: connect { origin, refused = true } would allow it")
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
