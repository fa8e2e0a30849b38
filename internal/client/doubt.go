package client

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/logbook"
)

// leastAtStake is the least that may be at stake where nothing was waited for: what fails at
// once is not failed by a delay of less.
const leastAtStake = time.Second

// inDoubt reports whether the tool or its machine can be why something that was waited for
// since an instant has not come, or has failed.
func (e *Env) inDoubt(since mono.Time) bool {
	waited := max(e.now.Sub(since), leastAtStake)
	return e.Doubtful != nil && e.Doubtful(e.now.Add(-waited), e.now, waited)
}

// closedInDoubt reports whether the tool or its machine can be why a server closes a client:
// its sign of life came too late, or the server came to it too late.
func (e *Env) closedInDoubt() bool {
	silence := leastAtStake
	if p := e.Trial.Target.Promise; p != nil && p.Deadline > 0 {
		silence = p.Deadline
	}
	return e.inDoubt(e.now.Add(-silence))
}

// doubts gives where to count what is in doubt; what is not goes nowhere.
func (e *Env) doubts(inDoubt bool) *logbook.DoubtCounts {
	if !inDoubt {
		return &logbook.DoubtCounts{}
	}
	return &e.counts().Doubt
}

// fails books that a check failed because what was waited for did not come.
func (e *Env) fails(check int, why string, inDoubt bool) { e.failsWith(check, why, "", inDoubt) }

// failsWith is fails with values, as checkWith.
func (e *Env) failsWith(check int, why, values string, inDoubt bool) {
	if check < 0 || e.garbled() {
		return
	}
	e.counts().WaitsFailed++
	e.doubts(inDoubt).Failed++
	e.checkWith(check, false, why, values)
}

// countsLoad books when a message is said that was due at an instant.
func (e *Env) countsLoad(due mono.Time) {
	if x, _ := e.excuses.Last(e.c.id, excuse.HeldUp); x.To == mono.Never {
		return // it leaves late by the trial's own doing
	}
	l := &e.Book.At(due).Counts.Load
	l.Said(time.Duration(e.rel(due)), time.Duration(e.rel(e.now)))
	if e.script.inBurst() {
		l.Together(e.now.Sub(due))
	}
}
