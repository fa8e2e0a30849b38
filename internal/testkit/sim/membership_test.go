package sim_test

import (
	"maps"
	"strings"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
)

// init adds the weaknesses of who is in a room, who is told, and heartbeats.
func init() { maps.Copy(weaknesses, memberships) }

// comeAndGo has half of the clients go in different ways, while the others stay and speak.
const comeAndGo = `
  connect {}
  enter { room = "lock-1" }
  pause { lasts = "4s" }
  when {
    that = n % 2 == 0
    repeat {
      every = "500ms"
      times = 20
      say { body = { kind = "notice", room = room, text = "${mark}" } }
    }
  }
  otherwise {
    pause {
      lasts = "1s"
      most  = "5s"
    }
    GOES
  }
`

var memberships = map[string]weakness{
	"36 deaf member": {switches: board.Switches{Membership: board.Membership{Deaf: 0.2}}, figure: "ledger.lost",
		session: strings.Replace(talk, "times = 12", "times = 20", 1)},
	"37 stays after leaving": {switches: board.Switches{Membership: board.Membership{Lingers: 0.4}},
		figure: "ledger.stray", session: strings.Replace(comeAndGo, "GOES", "leave {}\n    pause { lasts = \"8s\" }",
			1)},
	"38 entered twice": {switches: board.Switches{Membership: board.Membership{EntersTwice: 0.5}},
		figure: "ledger.duplicate", session: strings.Replace(comeAndGo, "GOES",
			"enter { room = \"lock-1\" }\n    pause { lasts = \"8s\" }", 1)},
	"39 silent leave": {config: standin.Config{Notices: true}, figure: "ledger.lost",
		switches: board.Switches{Membership: board.Membership{SilentLeave: 0.5}},
		session:  strings.Replace(comeAndGo, "GOES", "vanish {}", 1)},
	"35 late handler": {switches: board.Switches{Membership: board.Membership{LateHandler: 400 * time.Millisecond}},
		figure: "ledger.lost", session: `
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "300ms"
    times = 30
    say { body = { kind = "notice", room = room, text = "${mark}" } }
  }
`},
	"5 ghosts": {switches: board.Switches{Beats: board.Beats{Ghost: 0.4}}, figure: "checks.failed",
		reason: "the number of members", session: strings.Replace(comeAndGo, "GOES", "vanish {}", 1)},
}
