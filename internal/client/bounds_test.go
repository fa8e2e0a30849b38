package client

import (
	"fmt"
	"testing"

	"tidepull/internal/trial"
)

// TestReasonsAreBounded: what servers say does not fill the table.
func TestReasonsAreBounded(t *testing.T) {
	e := &Env{Fixed: Fixed{Trial: &trial.Trial{}}}
	for i := range 2000 {
		e.countReason("closed", fmt.Errorf("reason %d", i))
	}
	if n := len(e.Reasons.All()); n != 51 || e.Reasons.Of("other reasons") != 1950 {
		t.Errorf("%d reasons are kept, %d others", n, e.Reasons.Of("other reasons"))
	}
}
