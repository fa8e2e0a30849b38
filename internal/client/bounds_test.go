package client

import (
	"fmt"
	"testing"

	"tidepull/internal/trial"
)

// TestReasonsAreBounded: what servers say does not fill the table.
func TestReasonsAreBounded(t *testing.T) {
	e := &Env{Trial: &trial.Trial{}, Reasons: map[string]int{}}
	for i := range 2000 {
		e.countReason("closed", fmt.Errorf("reason %d", i))
	}
	if n := len(e.Reasons); n != maxReasons+1 || e.Reasons[otherReasons] != 2000-maxReasons {
		t.Errorf("%d reasons are kept, %d others", n, e.Reasons[otherReasons])
	}
}
