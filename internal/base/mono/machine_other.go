//go:build !unix

package mono

import "time"

// machineNow stands in for a clock that processes share: there is no other one.
func machineNow() int64 { return time.Now().UnixNano() }
