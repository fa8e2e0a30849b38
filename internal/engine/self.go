package engine

import (
	"runtime/debug"
	"time"

	"tidepull/internal/engine/machine"
	"tidepull/internal/measure/logbook"
)

// measureSelf books what the loop itself used since it was last called.
func (s *share) measureSelf(p *logbook.Page) {
	now, wait, use, pause := s.drv.Now(), s.drv.Blocked(), s.cfg.Use(), s.gcPause()
	all := now.Sub(s.markedAt)
	end := min(now, s.start.Add(time.Duration(p.At+1)*time.Second))
	span := max(0, end.Sub(s.markedAt))
	// After a long pass of the loop several seconds end at once: each has its part.
	part := func(d time.Duration) time.Duration {
		if all <= 0 {
			return d
		}
		return time.Duration(float64(d) * float64(span) / float64(all))
	}
	h, was := &p.Health, s.markedUse
	h.Span, h.Busy = span, max(0, span-part(wait-s.markedWait+s.stalled))
	h.CPU, h.Process, h.GCPause = part(use.Thread-was.Thread), part(use.Process-was.Process), part(pause-s.markedPause)
	h.Waited, h.Stolen = part(use.Waited-was.Waited), part(use.Stolen-was.Stolen)
	s.markedAt = s.markedAt.Add(span)
	s.markedWait += part(wait - s.markedWait)
	s.stalled -= part(s.stalled)
	s.markedPause += h.GCPause
	s.markedUse = machine.Use{Process: was.Process + h.Process, Thread: was.Thread + h.CPU,
		Waited: was.Waited + h.Waited, Stolen: was.Stolen + h.Stolen}
	began := s.start.Add(time.Duration(p.At) * time.Second)
	pressed := s.cfg.Pressure(began, end)
	h.Watched, h.Kept, h.Starved, h.Crowded = pressed.Known, pressed.Longest, pressed.Starved, pressed.Crowded
	s.load.book(&p.Counts.Load, end)
	s.lags(p.At, p.Times[logbook.ReadingLag].Max())
	if began <= s.taintedTo {
		h.Waiting |= s.tainted
	}
}

func (s *share) gcPause() time.Duration {
	debug.ReadGCStats(&s.gc)
	return s.gc.PauseTotal
}
