package language

import (
	"os"
	"path/filepath"
	"testing"

	"tidepull/internal/trial"
)

// TestLikeness: there is a likeness of every trial for a server of somebody else's, and it has as many clients, whose
// sessions say as much.
func TestLikeness(t *testing.T) {
	var files []string
	for _, pattern := range []string{"../../../interop/*/*.trial.hcl", "../../../trials/*.trial.hcl"} {
		some, err := filepath.Glob(pattern)
		if err != nil || len(some) < 5 {
			t.Fatal(pattern, some, err)
		}
		files = append(files, some...)
	}
	for _, file := range files {
		src, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		tr, err := Parse(src, file, Options{})
		if err != nil {
			t.Fatal(err)
		}
		like, err := trial.Like(tr, "127.0.0.1:7411")
		if err != nil {
			t.Errorf("%s: %v", file, err)
			continue
		}
		got, err := Again(&like.Source)
		if err != nil {
			t.Errorf("%s: %v\n%s", file, err, like.Source.Text)
			continue
		}
		if got.Clients() != tr.Clients() {
			t.Errorf("%s: %d clients, and not %d", file, got.Clients(), tr.Clients())
		}
		t.Logf("%s: without %v", filepath.Base(file), like.LeftOut)
	}
}
