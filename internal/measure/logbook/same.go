package logbook

import (
	"bytes"
	"slices"
)

// Same reports whether two copies of a second say the same, whether it is settled or not.
// What has not changed need not be summed up again.
func (e *Entry) Same(o *Entry) bool {
	return e.At == o.At && e.Merged == o.Merged && e.MergedOverloaded == o.MergedOverloaded &&
		e.Foreign == o.Foreign && e.Counts == o.Counts && e.Gauges == o.Gauges &&
		e.Health == o.Health && e.Part.same(&o.Part) && e.SentLate.same(o.SentLate) &&
		e.Times.same(&o.Times) && slices.Equal(e.Checks, o.Checks) && slices.Equal(e.Told, o.Told)
}

func (t *Times) same(o *Times) bool {
	for d := range t {
		if !bytes.Equal(t[d], o[d]) {
			return false
		}
	}
	return true
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
