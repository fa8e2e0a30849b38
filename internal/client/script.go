package client

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/ws"
)

// A script is where a client is in its session: what it does next, and what it waits for. It knows
// no connection.
type script struct {
	deadline mono.Time // of what it waits for
	began    mono.Time // when that wait began
	// clock is where the script would be if it were followed without any delay of
	// the tool: what is said next is due then. Waiting for the server moves it to
	// when that was over, a pause by its length, an iteration
	// of a repeat to the time that it was due at.
	clock      mono.Time
	session    *trial.Session
	iterations *[trial.MaxNesting]iteration // nil until a repeat begins
	locals     []expr.Value                 // what it captured
	pc         int32
	wait       wait
	depth      int8
	ebbing     bool // the client is to go
	came       bool // it ended, after it had set out
}

type wait uint8

const (
	forNothing wait = iota
	forOpen
	forName
	forExpected
	forEntry
	forLeave
	forAnswer // to an HTTP request
	forBreak  // to be closed by the server
	forTime
	forOthers  // at a barrier
	forFigures // of the run
	forReturn  // until it tries to come back
	forRetry   // until it tries to connect again: a fault of the trial kept it out
	forBreath  // so that a session without waits does not hold up the others
	forEnd
)

// begins sets the script to the beginning of a session.
func (s *script) begins(e *Env, session *trial.Session) {
	s.session, s.pc, s.depth, s.clock, s.ebbing, s.locals = session, 0, 0, e.now, false, nil
}

// ends forgets what the script was at.
func (s *script) ends(e *Env) {
	s.awaits(e, forNothing)
	s.locals = nil
	s.leavesRepeats(e)
	if len(e.Trial.Barriers) > 0 { // nobody waits for the client any more
		s.came = true
		e.note(fact.Ended, 0, 1)
	}
}

// step is the one at hand.
func (s *script) step() *trial.Step { return &s.session.Steps[s.pc] }

// isAt reports whether the step at hand is of a kind.
func (s *script) isAt(kind trial.StepKind) bool {
	return int(s.pc) < len(s.session.Steps) && s.step().Do == kind
}

// steps are all of the session's.
func (s *script) steps() []trial.Step { return s.session.Steps }

// ahead are the steps from the one at hand on.
func (s *script) ahead() []trial.Step { return s.session.Steps[s.pc:] }

// skip goes on to the next step, which is not carried out yet.
func (s *script) skip() { s.pc++ }

// awaits has the script wait for something that may take any time; how long is watched elsewhere.
func (s *script) awaits(e *Env, w wait) { s.wait, s.began, s.deadline = w, e.now, mono.Never }

// await has it wait for something for a while.
func (s *script) await(e *Env, w wait, within time.Duration) {
	s.wait, s.began, s.deadline = w, e.now, e.now.Add(within)
}

// waitsFor reports whether it waits for something.
func (s *script) waitsFor(w wait) bool { return s.wait == w }

// waiting is what it waits for.
func (s *script) waiting() wait { return s.wait }

// since is when it began to wait.
func (s *script) since() mono.Time { return s.began }

// isEbbing reports whether the client is to go.
func (s *script) isEbbing() bool { return s.ebbing }

// ebbs has the client go, as there is nothing that it could do any more.
func (s *script) ebbs(e *Env) {
	s.ebbing = true
	e.path.close(e, ws.CloseNormal, "")
}

// due is when what is said next is due.
func (s *script) due() mono.Time { return s.clock }

// catchUp has what is said next be due now at the earliest.
func (s *script) catchUp(e *Env) { s.clock = max(s.clock, e.now) }

// goesToGoodbye has the script go to the steps at the end of its session that only leave and close.
func (s *script) goesToGoodbye() {
	end := len(s.session.Steps)
	for end > int(s.pc) && (s.session.Steps[end-1].Do == trial.Leave || s.session.Steps[end-1].Do == trial.Close) {
		end--
	}
	s.pc = int32(end)
}

// resume goes on after a wait for the server, or for others. What is said next
// follows from that and not from a schedule, so it is due now: the tool's own
// lag in reading the answer is not the server's latency.
func (s *script) resume(e *Env) {
	s.catchUp(e)
	s.carryOn(e)
}

// carryOn goes on with the step after the one that waited.
func (s *script) carryOn(e *Env) {
	s.pc++
	s.run(e)
}

// stepsPerRun bounds the steps that are done in one go.
const stepsPerRun = 1000

// run carries out steps until one has to wait, or the session is over.
func (s *script) run(e *Env) {
	s.wait, s.deadline = forNothing, mono.Never
	for n := 0; s.wait == forNothing && !e.pulse.stands() && (e.path.is(open) || e.path.is(offline)); n++ {
		switch {
		case int(s.pc) >= len(s.session.Steps) && e.path.is(open):
			e.path.close(e, ws.CloseNormal, "")
		case int(s.pc) >= len(s.session.Steps):
			e.path.ends(e, ending{cause: sessionEnd})
		case n == stepsPerRun:
			s.await(e, forBreath, time.Millisecond)
		default:
			s.do(e)
		}
	}
}

// do carries out one step: it moves on to the next, or waits.
func (s *script) do(e *Env) {
	step := s.step()
	switch step.Do {
	case trial.Connect:
		if e.path.is(offline) {
			e.path.connect(e, step)
			return
		}
	case trial.Repeat:
		s.repeat(e, step)
		return
	case trial.Again:
		s.iterations[s.depth-1].round++
		s.pc = int32(step.Goto)
		s.nextIteration(e, s.step())
		return
	case trial.Branch:
		e.fill()
		if !step.When.True(&e.scope) {
			s.pc = int32(step.Goto)
			return
		}
	case trial.Jump:
		s.pc = int32(step.Goto)
		return
	case trial.Back:
		e.path.comesBack(e)
		return
	case trial.Choose:
		s.pc = int32(choose(step.Options, e.fraction()))
		return
	case trial.Set:
		e.fill()
		s.capture(e, step.Capture)
	case trial.Assert:
		s.assert(e, step)
		return
	case trial.Ask:
		s.ask(e, step)
		return
	case trial.Wait:
		if !s.ebbing {
			s.waitForOthers(e, step)
			return
		}
	case trial.Pause:
		if !s.ebbing {
			s.wait, s.began, s.deadline = forTime, e.now, s.clock.Add(pause(e, step))
			return
		}
	default:
		if e.path.is(open) {
			s.doOpen(e, step)
			return
		}
		e.unsent("the client is not connected")
	}
	s.pc++
}

// doOpen carries out a step that needs the connection.
func (s *script) doOpen(e *Env, step *trial.Step) {
	switch step.Do {
	case trial.Expect:
		s.await(e, forExpected, step.Within)
		if step.Already {
			e.judge.cameAlready(e)
		}
		return
	case trial.Enter:
		e.judge.enter(e, step)
		return
	case trial.Leave:
		e.judge.leave(e, step)
		return
	case trial.Close:
		e.path.close(e, step.Code, step.Reason)
		return
	case trial.Silence:
		if e.pulse.misbehaves(e, step.Misbehave, true); step.Within > 0 {
			s.await(e, forBreak, step.Within)
			return
		}
	case trial.Malform:
		wrong := step.WrongOf(int(e.c.n))
		e.event(logbook.Misbehaved, noRoom, "breaks the protocol: "+wrong)
		e.path.malform(e, wrong)
		s.await(e, forBreak, step.Within)
		return
	case trial.Say, trial.Tell:
		e.Said[step.Number] = true
		s.say(e, step)
	case trial.Closed:
		s.await(e, forBreak, step.Within)
		return
	case trial.Send:
		if step.Named && e.judge.awaitsName() {
			s.await(e, forName, step.Within)
			return
		}
		e.Said[step.Number] = true
		e.fill()
		e.body = step.Body.Append(e.body[:0], &e.scope)
		if step.Bad {
			e.path.sendsBad()
			e.event(logbook.Misbehaved, noRoom, "sends a bad message: "+plain.Text(e.hide(string(e.body)), shownOfBad))
		}
		e.path.say(e, step.Binary, step.Urgent)
	case trial.Slow:
		if step.PerSec == 0 {
			if e.path.readsSlowly() {
				e.event(logbook.Mended, noRoom, logbook.ReadsOn)
			}
			e.path.readOn(e, e.Trial.Prompt)
			break
		}
		e.path.readSlowly(e, step)
		e.event(logbook.Misbehaved, noRoom, "reads slowly")
		if step.Within > 0 {
			s.await(e, forBreak, step.Within)
			return
		}
	case trial.Vanish:
		e.path.ends(e, ending{cause: vanished})
	}
	s.pc++
}

// shownOfBad is how much of a bad message is told, in columns.
const shownOfBad = 60

func choose(options []trial.Option, at float64) int {
	for _, o := range options {
		if at < o.Below {
			return o.Goto
		}
	}
	return options[len(options)-1].Goto
}

func pause(e *Env, step *trial.Step) time.Duration {
	if step.Most > step.For {
		return step.For + time.Duration(e.fraction()*float64(step.Most-step.For))
	}
	return step.For
}

// capture remembers what the programs give in the scope. A text is copied.
func (s *script) capture(e *Env, captures []trial.Capture) {
	if len(captures) == 0 {
		return
	}
	if s.locals == nil {
		s.locals = make([]expr.Value, len(e.Trial.Locals))
	}
	e.scope.Locals = s.locals
	for _, cap := range captures {
		v, into := cap.Value.Eval(&e.scope), &s.locals[cap.Local]
		into.Kind, into.Num, into.Str = v.Kind, v.Num, append(into.Str[:0], v.Str...)
	}
}
