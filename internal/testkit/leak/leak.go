// Package leak is test support: it finds goroutines that tests left behind.
package leak

import (
	"fmt"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"
)

// Main runs the tests of a package and fails it if a goroutine of this module is
// still there a moment after the last of them:
//
//	func TestMain(m *testing.M) { os.Exit(leak.Main(m)) }
func Main(m *testing.M) int {
	status := m.Run()
	if status != 0 {
		return status
	}
	left := ""
	for end := time.Now().Add(3 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if left = ours(); left == "" {
			return 0
		}
	}
	fmt.Fprintf(os.Stderr, "goroutines were left behind:\n\n%s\n", left)
	return 1
}

// ours are the stacks of this module's goroutines, but for the one that asks.
func ours() string {
	b := make([]byte, 1<<20)
	b = b[:runtime.Stack(b, true)]
	var left []string
	for _, stack := range strings.Split(string(b), "\n\n") {
		if strings.Contains(stack, "tidepull/internal/") && !strings.Contains(stack, "leak.Main") {
			left = append(left, stack)
		}
	}
	return strings.Join(left, "\n\n")
}
