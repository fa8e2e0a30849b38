package machine

import (
	"sync"
	"sync/atomic"

	"tidepull/internal/base/mono"
)

// started is when this process started, on the machine's clock: read between two looks at its own, the nearest of some.
var started = sync.OnceValue(func() int64 {
	var best int64
	for nearest, n := mono.Never, 0; n < 20; n++ {
		before := mono.Own()
		there := clock()
		after := mono.Own()
		if apart := after - before; apart < nearest {
			nearest, best = apart, there-int64(before+apart/2)
		}
	}
	return best
})

// Instant is an instant as all processes of this machine know it, in nanoseconds of its monotonic clock. In a process
// that follows another machine's clock it is an instant of that one.
func Instant(t mono.Time) int64 { return int64(t) + began() }

// InstantHere is the opposite of Instant, in this process.
func InstantHere(t int64) mono.Time { return mono.Time(t - began()) }

// elsewhere is when this process started on the clock that it follows; 0: it follows none.
var elsewhere atomic.Int64

func began() int64 {
	if at := elsewhere.Load(); at != 0 {
		return at
	}
	return started()
}

// Own is the instant by this machine's own clock.
func Own() int64 { return int64(mono.Own()) + started() }

// OwnWall is what must be added to an instant of this machine's own clock to give nanoseconds since 1970.
func OwnWall() int64 { return mono.OwnWallOffset() - started() }

// Follow has the time of this process (mono.Now) go as another machine's clock: which was at an instant there when this
// machine's was at one here, and gains on it by rate, as in mono.Course. It has one caller.
func Follow(here, there int64, rate float64) {
	own := mono.Time(here - started())
	if elsewhere.Load() == 0 {
		elsewhere.Store(there - int64(own)) // Now goes on from where it is
	}
	mono.Follow(mono.Course{From: own, To: mono.Time(there - elsewhere.Load()), Rate: rate})
}
