//go:build !linux

package pressure

import (
	"net/netip"

	"tidepull/internal/base/mono"
)

// A look finds nothing on this system.
type look struct{}

func newLook() *look { return &look{} }

func (*look) close() {}

func (*look) look(*Watcher, *sample, mono.Time) bool { return false }

// Listening finds nothing on this system.
func Listening([]netip.AddrPort) (pids []int, here bool) { return nil, false }
