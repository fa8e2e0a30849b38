package client

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/transport"
)

// A path is a client's way to its server: the connection, the routes that it may take, and how it
// comes back. It knows no session.
type path struct {
	way    transport.Machine
	rare   *rarePath // what few clients need; nil if this one does not
	phase  phase
	route  uint8
	again  bool   // it was connected before, since the client set out
	second bool   // the transport is the one of Env.Beside
	active uint32 // when something last went over the connection, either way: in hundredths of a second of the run
}

// isActive notes that something goes over the connection.
func (p *path) isActive(e *Env, at mono.Time) { p.active = uint32(e.rel(at) / hundredth) }

const hundredth = mono.Time(10 * time.Millisecond)

// quietFor says for how long nothing had gone over a connection when it broke, if that is worth saying: proxies and
// servers cut what is idle.
func (p *path) quietFor(e *Env) string {
	idle := time.Duration(e.rel(e.now)/hundredth-mono.Time(p.active)) * time.Duration(hundredth)
	if idle < leastQuiet {
		return ""
	}
	return fmt.Sprintf("; for %.1f s nothing had gone over it", idle.Seconds())
}

// leastQuiet is the shortest quiet that is told of.
const leastQuiet = 2 * time.Second

type phase uint8

const (
	idle       phase = iota // not begun, or over
	offline                 // begun, and not connected
	connecting              // until messages can be sent
	open
	closing // until the connection has ended
)

// rarePath is what a path has that uses more of the language than most do.
type rarePath struct {
	routes    *routeState // nil if there is one route
	comeback  *comeback   // nil if the client does not come back
	jar       http1.Jar
	web       transport.Requests
	resume    mono.Time   // when the client reads on; 0: it is reading
	slow      *trial.Step // that has it read slowly, or did last; nil: none
	readsOn   mono.Time   // up to when it has yet to read what piled up, as it no longer does; 0: it reads slowly
	looks     bool        // it reads all the same, to see whether it was closed
	bad       bool        // it has sent a bad message on purpose
	elsewhere int32       // by how many nodes it was sent on
	resends   bool        // what a fault has lost is sent again
}

// own is what the path has beyond most.
func (p *path) own() *rarePath {
	if p.rare == nil {
		p.rare = &rarePath{web: transport.Requests{Line: transport.Side}}
		p.rare.web.Jar = &p.rare.jar
	}
	return p.rare
}

// setsOut has the path begin anew: all is forgotten but what happens on it.
func (p *path) setsOut() {
	p.phase, p.again = offline, false
	p.forgets()
}

func (p *path) forgets() {
	was := p.rare
	if p.rare = nil; was != nil && was.resends {
		p.own().resends = true
	}
}

// is reports whether the connection is in a phase.
func (p *path) is(in phase) bool { return p.phase == in }

// web is for requests beside the connection.
func (p *path) web() *transport.Requests { return &p.own().web }

// io is what the client's transport asks for, and what a second one does beside it.
func (p *path) io(e *Env) *transport.IO      { return e.ios(p.second) }
func (p *path) otherIO(e *Env) *transport.IO { return e.ios(!p.second) }

func (e *Env) ios(second bool) *transport.IO {
	if second {
		return &e.Beside
	}
	return &e.IO
}

// due is when the path is to do something by itself; mono.Never if it is not.
func (p *path) due() mono.Time {
	due := mono.Never
	if p.rare == nil {
		return due
	}
	if p.rare.resume != 0 {
		due = p.rare.resume
	}
	if r := p.rare.routes; r != nil {
		due = min(due, r.due())
	}
	return due
}

// serverDue is by when the server must have done something about a change of the route; mono.Never if
// there is none.
func (p *path) serverDue() mono.Time {
	due := mono.Never
	if r := p.routes(); r != nil {
		for _, a := range [...]*attempt{r.next, r.old} {
			if a != nil {
				due = min(due, a.until, a.way.Deadline())
			}
		}
	}
	return due
}

// got counts what came over a line, and says that the client does not read on if it reads slowly.
func (p *path) got(e *Env, line, bytes int, came mono.Span) {
	if r := p.routes(); r != nil {
		r.got += int64(bytes)
	}
	if line >= transport.NumLines != p.second || line%transport.NumLines != transport.Main {
		return
	}
	p.throttle(e, bytes)
	e.pulse.hearsAnything(e, bytes, came.To)
	if !p.readsSlowly() && e.pulse.misconduct() == nil { // else it reads late on purpose
		e.Book.Now().Times[logbook.ReadingLag].Record(e.now.Sub(came.To))
	}
}

// happens hands something that happened to a line to the transport that has it, and handles what that
// has to tell.
func (p *path) happens(e *Env, line int, came mono.Span, f func(transport.Machine, *transport.IO, int)) {
	if line >= transport.NumLines != p.second {
		p.besides(e, line%transport.NumLines, came, f)
		return
	}
	f(p.way, p.io(e), line%transport.NumLines)
	p.drain(e, came)
}

// drain handles what the transport has to tell.
func (p *path) drain(e *Env, came mono.Span) {
	for {
		ev := p.way.Next(p.io(e))
		switch ev.Kind {
		case transport.Nothing:
			return
		case transport.Opened:
			at := came.To
			if ev.At != 0 {
				at = ev.At
			}
			p.opened(e, at)
		case transport.Message:
			if ev.Shared {
				e.judge.message(e, ev, came)
			} else {
				e.judge.message(e, ev, mono.At(came.To))
			}
		case transport.Beat:
			e.pulse.beat(e, ev.Payload, came.To)
		case transport.Pong:
			e.pulse.pong(e, came.To)
		case transport.Sign:
			e.pulse.hearsBeat(e, came.To)
		case transport.Answered:
			e.judge.isGone(e)
		case transport.Paused:
			if t := p.routes(); t != nil && t.next != nil {
				p.switchTo(e, true)
				return
			}
		case transport.Ended:
			if ev.Err != nil {
				e.countReason("close", ev.Err)
			}
			if p.ends(e, ending{cause: closed}) == goesOn {
				e.script.resume(e)
			}
		case transport.Refused:
			p.refused(e, ev.Err)
		case transport.Broken:
			p.broken(e, came, ev.Err)
		case transport.Violated:
			if !e.garbled() {
				e.counts().Malformed++
			}
			p.broken(e, came, ev.Err)
		}
	}
}

// drainWeb handles what came of a request.
func (p *path) drainWeb(e *Env, at mono.Time) {
	for p.rare != nil {
		ev := p.rare.web.Next(&e.IO)
		switch ev.Kind {
		case transport.Nothing:
			return
		case transport.Reply:
			e.script.answered(e, ev.Head, ev.Payload, at)
		case transport.Failed:
			e.script.unanswered(e, ev.Err)
		}
	}
}
