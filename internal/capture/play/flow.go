package play

import (
	"time"

	"tidepull/internal/capture/replay"
)

// A flow is the bytes that came over a connection without ends of messages, in the
// recording and now: as pieces with pauses between them.
type flow struct {
	recorded, heard []piece
	wants, got      int  // bytes
	apart           bool // what comes next is a piece of its own
}

type piece struct {
	bytes []byte
	after time.Duration
	ends  time.Time
}

// expects books a piece that came in the recording.
func (f *flow) expects(b []byte, after time.Duration) {
	f.recorded = append(f.recorded, piece{bytes: b, after: after})
	f.wants += len(b)
}

// hears takes bytes that come now.
func (f *flow) hears(b []byte, at, lastDeed time.Time) {
	if f.got += len(b); f.got > maxHeardBytes {
		return // it differs by its length
	}
	if n := len(f.heard); n > 0 && !f.apart && at.Sub(f.heard[n-1].ends) < replay.PieceGap {
		last := &f.heard[n-1]
		last.bytes, last.ends = append(last.bytes, b...), at
		return
	}
	f.apart = false
	f.heard = append(f.heard, piece{append([]byte(nil), b...), max(0, at.Sub(lastDeed)), at})
}

// cut says that the client does something: what comes then is another piece. What has not
// come by now is not waited for again.
func (f *flow) cut() {
	f.apart = true
	f.wants = min(f.wants, f.got)
}

// lacks reports whether less has come than in the recording.
func (f *flow) lacks() bool { return f.got < f.wants }

// compared holds the pieces against each other. If the whole is the same, where one piece
// ends and the next begins is the network's doing. vary are values that vary, and values
// what stands for them now.
func (f *flow) compared(vary, values []string, late replay.Lateness) (found []replay.Difference) {
	of := func(all []piece, vary []string) (pieces []replay.Heard, whole replay.Shape) {
		var b []byte
		for _, p := range all {
			pieces = append(pieces, replay.Heard{Shape: replay.ShapeOf(p.bytes, true, vary), Sample: p.bytes,
				After: p.after})
			b = append(b, p.bytes...)
		}
		return pieces, replay.ShapeOf(b, true, vary)
	}
	recorded, then := of(f.recorded, vary)
	heard, now := of(f.heard, append(vary, values...))
	for _, d := range replay.Compare(recorded, heard, late) {
		if then != now || d.Kind == replay.Later {
			found = append(found, d)
		}
	}
	return found
}
