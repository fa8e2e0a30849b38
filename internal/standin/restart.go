package standin

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/standin/board"
	"tidepull/internal/wire/ws"
)

// maxDown is how long a restart on request may take.
const maxDown = time.Minute

// restart ends all connections and begins anew after a while, as a server does that is
// deployed: POST /restart?down=2s, and rude=1 for one that falls over. What it knew is gone,
// but for what is in its store; the truth of what it did goes on.
func (l *loop) restart(id int32, r *request) {
	q := r.url.Query()
	down := time.Second
	if given := q.Get("down"); given != "" {
		d, err := time.ParseDuration(given)
		if err != nil || d < 0 || d > maxDown {
			l.answer(id, r, 400, "text/plain", []byte("down is a duration up to a minute, such as 2s\n"))
			return
		}
		down = d
	}
	l.answer(id, r, 204, "", nil)
	rude := q.Get("rude") == "1"
	for other := range l.conns {
		switch c := &l.conns[other]; {
		case int32(other) == id || c.state == free:
		case rude, c.state == live && l.board.Switches().Meets(l.board.Switches().RudeGoodbye, "rude goodbye",
			l.called(int32(other))):
			l.part(int32(other))
			l.conns[other] = conn{}
			l.drv.Abort(int32(other))
		case c.state == live && c.speaks == inFrames:
			l.sayClose(int32(other), ws.CloseServiceRestart, "the board restarts")
		default:
			l.hangUp(int32(other))
		}
	}
	truth := l.board.Truth
	l.board = l.newBoard()
	l.board.Truth = truth
	l.visits, l.byMember, l.freeVisits, l.ready = map[string]*visit{}, nil, nil, nil
	l.downUntil = l.drv.Now().Add(down)
	l.board.Truth.Totals.Restarts++
}

// newBoard makes a board without members.
func (l *loop) newBoard() *board.Board {
	cfg := &l.cfg
	switches := cfg.Switches
	if l.board != nil {
		switches = *l.board.Switches()
	}
	return board.New(board.Config{Switches: switches, History: cfg.History, Presence: cfg.Presence,
		Records: cfg.Records, MaxText: cfg.MaxText, Notices: cfg.Notices, LeaveOut: cfg.LeaveOut, Share: cfg.Share,
		Denied: cfg.Denied, Gauge: cfg.Gauge, Resume: cfg.Resume, Manners: cfg.Manners.Manners}, l)
}

// isDown reports whether the board is down, as was asked for.
func (l *loop) isDown(now mono.Time) bool { return now < l.downUntil }
