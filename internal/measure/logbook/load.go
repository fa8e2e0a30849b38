package logbook

import (
	"fmt"
	"time"
)

// LoadCounts say how much of the planned load there was within one second. What is planned
// follows from the trial alone: a client is to be connected from when its tide says so, a
// message is due when its script says so.
type LoadCounts struct {
	// Planned is the time of all clients that are to be there, summed up over them: from when
	// the tide wants them to when it does not. What becomes of them in it is counted elsewhere.
	Planned time.Duration
	// Behind is the time by which clients set out later than their tide says, on the second in
	// which they did.
	Behind time.Duration
	// Waited is the time, beyond ConnectsWithin each, that clients spent connecting, on the
	// second in which that ended.
	Waited time.Duration
	OnTime int64 // messages said in the second in which they were due, or in the next
	Late   int64 // messages said later than that
	// What was to happen at one moment: messages of a burst, clients let go by a barrier or
	// sent out together.
	AtOnce int64
	Apart  int64         // of them: more than MaxScheduleLag after it
	Worst  time.Duration // the longest that one of them came after it
}

// ConnectsWithin is how long connecting may take without any of the planned load being
// missed: like a message, a client may be a second later than the plan.
const ConnectsWithin = time.Second

// Said books that a message was said, by the seconds of the run in which it was due and in
// which it was said.
func (c *LoadCounts) Said(due, said time.Duration) {
	if said/time.Second > due/time.Second+1 {
		c.Late++
	} else {
		c.OnTime++
	}
}

// Together books that something came so long after the one moment at which several were to
// happen.
func (c *LoadCounts) Together(after time.Duration) {
	c.AtOnce++
	if after > MaxScheduleLag {
		c.Apart++
	}
	c.Worst = max(c.Worst, after)
}

// Clients is the share of the planned client-time that was not missed, from 0 to 1; ok is false if
// none was planned.
func (c *LoadCounts) Clients() (share float64, ok bool) {
	return 1 - min(1, float64(c.Behind+c.Waited)/float64(max(1, c.Planned))), c.Planned > 0
}

// Messages is the share of the messages due that were said in time, from 0 to 1; ok is false
// if none were due.
func (c *LoadCounts) Messages() (share float64, ok bool) {
	due := c.OnTime + c.Late
	return float64(c.OnTime) / float64(max(1, due)), due > 0
}

// Offered is the lesser of Clients and Messages; 1 if neither says anything.
func (c *LoadCounts) Offered() (share float64, ok bool) {
	share = 1
	for _, of := range [...]func() (float64, bool){c.Clients, c.Messages} {
		if s, some := of(); some {
			share, ok = min(share, s), true
		}
	}
	return share, ok
}

// Words says what is missing of the planned load, and who is the reason; "" if nothing is.
func (c *LoadCounts) Words() string {
	share, _ := c.Clients()
	switch said, due := c.Messages(); {
	case due && said < 1 && said <= share:
		return fmt.Sprintf("%d of %d messages were said more than a second late", c.Late, c.OnTime+c.Late)
	case c.Behind >= c.Waited && c.Behind > 0:
		return fmt.Sprintf("clients set out late, by %v in all", c.Behind.Round(time.Millisecond))
	case c.Waited > 0:
		return fmt.Sprintf("clients waited %v in all for their connections, beyond %v each",
			c.Waited.Round(time.Millisecond), ConnectsWithin)
	}
	return ""
}

// loadFigures are the figures of the load.
func loadFigures(add func(name string, unit Unit, doc string, of func(*Window) float64) *Figure) {
	for _, f := range []struct {
		name, doc string
		of        func(*LoadCounts) (float64, bool)
	}{
		{"offered", "percent of the planned load that there was: the lesser of load.clients and load.messages",
			(*LoadCounts).Offered},
		{"clients", "percent of the planned time of clients that was not missed because they set out late, or " +
			"were more than a second connecting",
			(*LoadCounts).Clients},
		{"messages", "percent of the messages due that were said in the second in which they were due, or in the " +
			"next", (*LoadCounts).Messages},
	} {
		add("load."+f.name, Ratio, f.doc, func(w *Window) float64 {
			share, _ := f.of(&w.Counts.Load)
			return 100 * share
		}).some = func(w *Window) bool {
			_, ok := f.of(&w.Counts.Load)
			return ok
		}
	}
	atOnce := func(w *Window) bool { return w.Counts.Load.AtOnce > 0 }
	add("load.apart", Count, "of what was to happen at one moment (bursts, barriers, steps of the tide), how much "+
		"came more than 20 ms after it", func(w *Window) float64 { return float64(w.Counts.Load.Apart) }).some = atOnce
	add("load.worst", Duration, "the longest that something came after the moment at which several were to happen",
		func(w *Window) float64 { return Micros(w.Counts.Load.Worst) }).some = atOnce
}
