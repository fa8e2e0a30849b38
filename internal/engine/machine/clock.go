package machine

import (
	"sync"

	"tidepull/internal/base/mono"
)

// started is when this process started, on the machine's clock: read between two looks at its own, the nearest of some.
var started = sync.OnceValue(func() int64 {
	var best int64
	for nearest, n := mono.Never, 0; n < 20; n++ {
		before := mono.Now()
		there := clock()
		after := mono.Now()
		if apart := after - before; apart < nearest {
			nearest, best = apart, there-int64(before+apart/2)
		}
	}
	return best
})

// Instant is an instant as all processes of this machine know it, in nanoseconds of its monotonic clock.
func Instant(t mono.Time) int64 { return int64(t) + started() }

// InstantHere is the opposite of Instant, in this process.
func InstantHere(t int64) mono.Time { return mono.Time(t - started()) }
