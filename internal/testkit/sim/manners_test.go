package sim_test

import (
	"strings"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
)

// A manner is a server that speaks otherwise than the harbour board, and the dialect that
// says so.
type manner struct {
	config  standin.Config
	dialect string // instead of all of the board's, or in its place
	session string
	told    bool // who enters and leaves is announced
}

const boardsName = `
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
`

const boardsHeard = `
  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    seq     = msg.seq
    payload = msg.text
  }
`

const boardsPresence = `
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
`

const boardsWords = boardsName + boardsHeard + boardsPresence + `
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  leave {
    send      = { kind = "leave", room = room }
    confirmed = msg.kind == "left"
  }
`

const told = `
  joined {
    when = msg.kind == "joined"
    room = msg.room
    name = msg.name
  }
  gone {
    when = msg.kind == "gone"
    room = msg.room
    name = msg.name
  }
`

const chatty = `
  connect {}
  enter { room = "lock-${n % 2}" }
  pause { lasts = "2s" }
  repeat {
    every = "400ms"
    times = 5
    say { body = { kind = "notice", room = room, text = "${name} stands by ${mark}" } }
    whisper {
      to   = "pilot-${(n + 1) % 20}"
      body = { kind = "whisper", to = to, text = "come in ${mark}" }
    }
  }
  pause { lasts = "1m" }
`

const moored = `
  connect {}
  enter { room = "quay" }
  pause { lasts = "2s" }
  repeat {
    every = "400ms"
    times = 5
    say { body = { kind = "notice", room = "quay", text = "${name} stands by ${mark}" } }
  }
  pause { lasts = "1m" }
`

var roomless = strings.NewReplacer(`enter { room = "quay" }`, "", "say {", "say {\n      reaches = \"everyone\"\n     ",
	`${mark}" } }`, "${mark}\" }\n    }").Replace(moored)

var mooring = standin.Manners{Manners: board.Manners{Moor: "quay"}}

var manners = map[string]manner{
	"several messages in a frame, in lines": {config: standin.Config{Notices: true,
		Manners: standin.Manners{Pack: "lines"}}, dialect: `split = "\n"` + boardsWords + told, session: chatty,
		told: true},
	"several messages in a frame, as a list": {config: standin.Config{Notices: true,
		Manners: standin.Manners{Pack: "list"}}, dialect: `each = msg.items` + boardsWords + told, session: chatty,
		told: true},
	"naming is entering": {config: standin.Config{Notices: true, Manners: mooring}, session: moored, told: true,
		dialect: boardsName + boardsHeard + boardsPresence + told + "  enter {}\n"},
	"no rooms, and notices all the same": {config: standin.Config{Notices: true, Manners: mooring}, told: true,
		session: roomless, dialect: boardsName + boardsHeard + strings.ReplaceAll(told, "room = msg.room", "")},
	"a number of members of all": {config: standin.Config{Manners: mooring}, session: roomless,
		dialect: boardsName + strings.Replace(boardsPresence, "room    = msg.room", "", 1)},
	"a confirmation with the history in it": {config: standin.Config{
		Manners: standin.Manners{Manners: board.Manners{Whole: true}}},
		dialect: boardsWords + `
  past {
    when = msg.kind == "entered"
    each = msg.history
    seq  = msg.seq
  }
`, session: strings.Replace(chatty, `enter { room = "lock-${n % 2}" }`, `
  pause {
    lasts = "100ms"
    most  = "3s"
  }
  enter {
    room    = "lock-${n % 2}"
    history = 20
  }`, 1)},
	"an echo beside the delivery": {config: standin.Config{Manners: standin.Manners{Manners: board.Manners{Ack: true}}},
		dialect: boardsWords + "  echo { when = msg.kind == \"ack\" }\n", session: chatty},
}

// TestManners plays trials against servers of other manners: nothing is reported of an
// honest one, and of one that loses exactly what it lost.
func TestManners(t *testing.T) {
	for name, m := range manners {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source := `
trial "` + name + `" { seed = 5 }
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "other"
}
dialect "other" {
` + m.dialect + `}
session "s" {` + m.session + `}
crew "pilots" {
  clients = 20
  session = session.s
  name    = "pilot-${n}"
}
tide {
  flood "100%" { over = "1s" }
  slack { lasts = "9s" }
  ebb { over = "2s" }
}
`
			good := playWith(t, source, m.config, board.Switches{})
			clean(t, good)
			if n := figure(t, good.window, "announcements.stray"); n != 0 || good.window.Total.Said == 0 && m.told {
				t.Errorf("%v stray announcements, %d said; %v", n, good.window.Total.Said, good.reasons)
			}
			if good.window.Total.Said == 0 {
				return
			}
			bad := playWith(t, source, m.config, board.Switches{Seed: 3, Lose: 0.05})
			lost := int64(0)
			for c, tally := range bad.window.Cells {
				if c.Kind.Said() { // the truth does not count announcements
					lost += tally.Lost
				}
			}
			if lost == 0 || lost != bad.truth.Lost || m.told != (lost < bad.window.Total.Lost) {
				t.Errorf("lost %d, in truth %d: %+v", lost, bad.truth.Lost, bad.window.Total)
			}
			if m.config.Manners.Pack != "" && good.window.Counts.Arrivals <= good.window.Counts.Marked {
				t.Errorf("%d messages, %d with a mark", good.window.Counts.Arrivals, good.window.Counts.Marked)
			}
		})
	}
}
