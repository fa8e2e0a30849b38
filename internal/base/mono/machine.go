package mono

import "sync"

// startOnMachine is when the process started, on the machine's clock: read between two looks at this one, the nearest
// of some.
var startOnMachine = sync.OnceValue(func() int64 {
	var best int64
	for nearest, n := Never, 0; n < 20; n++ {
		before := Now()
		there := machineNow()
		after := Now()
		if apart := after - before; apart < nearest {
			nearest, best = apart, there-int64(before+apart/2)
		}
	}
	return best
})

// OnMachine is an instant as all processes of this machine know it, in nanoseconds.
func (t Time) OnMachine() int64 { return int64(t) + startOnMachine() }

// FromMachine is the opposite of OnMachine, in this process.
func FromMachine(t int64) Time { return Time(t - startOnMachine()) }
