package logbook

import (
	"bytes"
	"slices"
)

// Same reports whether two copies of a second say the same, whether it is settled or not.
// What has not changed need not be summed up again.
func (e *Entry) Same(o *Entry) bool {
	return e.At == o.At && e.Foreign == o.Foreign && e.Counts == o.Counts && e.Gauges == o.Gauges &&
		e.Health.same(&o.Health) && e.Part.same(&o.Part) && e.Own.same(o.Own) && e.Group.same(o.Group) &&
		bytes.Equal(e.Connect, o.Connect) && bytes.Equal(e.Enter, o.Enter) && bytes.Equal(e.Age, o.Age) &&
		bytes.Equal(e.Answer, o.Answer) && bytes.Equal(e.PushedBack, o.PushedBack) &&
		bytes.Equal(e.Usable, o.Usable) && bytes.Equal(e.Reconnect, o.Reconnect) && bytes.Equal(e.Back, o.Back) &&
		e.Pulse.same(&o.Pulse) && bytes.Equal(e.CaughtUp, o.CaughtUp) &&
		slices.Equal(e.Checks, o.Checks)
}

func (p *Pulses) same(o *Pulses) bool {
	return bytes.Equal(p.Gap, o.Gap) && bytes.Equal(p.RoundTrip, o.RoundTrip) &&
		bytes.Equal(p.Eviction, o.Eviction) && bytes.Equal(p.Told, o.Told)
}

func (h *Health) same(o *Health) bool {
	return h.Busy == o.Busy && h.Span == o.Span && h.CPU == o.CPU && h.Process == o.Process &&
		h.GCPause == o.GCPause && h.Path == o.Path &&
		h.Waited == o.Waited && h.Stolen == o.Stolen && h.Waiting == o.Waiting &&
		h.Watched == o.Watched && h.Kept == o.Kept && h.Starved == o.Starved && h.Crowded == o.Crowded &&
		h.Overload == o.Overload && bytes.Equal(h.ReadingLag, o.ReadingLag) && bytes.Equal(h.ScheduleLag, o.ScheduleLag)
}

func (p *Part) same(o *Part) bool {
	if p == nil || o == nil {
		return p == o
	}
	return slices.Equal(p.Cells, o.Cells) && p.Fit == o.Fit && bytes.Equal(p.First, o.First) &&
		bytes.Equal(p.Median, o.Median) && bytes.Equal(p.Last, o.Last) && p.Early.same(o.Early) &&
		slices.EqualFunc(p.Latency, o.Latency, func(a, b Series) bool {
			return a.Key == b.Key && bytes.Equal(a.Latency, b.Latency)
		})
}

func (e *Early) same(o *Early) bool {
	if e == nil || o == nil {
		return e == o
	}
	for i, mine := range [...]*EarlyPart{&e.Late, &e.Soon} {
		theirs := [...]*EarlyPart{&o.Late, &o.Soon}[i].hists()
		for k, h := range mine.hists() {
			if !bytes.Equal(*h, *theirs[k]) {
				return false
			}
		}
	}
	return true
}
