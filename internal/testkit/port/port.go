// Package port is test support: it finds ports for servers that are processes of their own.
package port

import (
	"math/rand/v2"
	"net"
	"strconv"
	"testing"
)

// Free gives a port below those that the system deals out by itself, so that no client of
// another test has it by the time that it is listened at.
func Free(t *testing.T) string {
	t.Helper()
	for range 1000 {
		port := strconv.Itoa(12000 + rand.IntN(18000))
		if ln, err := net.Listen("tcp", "127.0.0.1:"+port); err == nil {
			ln.Close()
			return port
		}
	}
	t.Fatal("no port is free")
	return ""
}
