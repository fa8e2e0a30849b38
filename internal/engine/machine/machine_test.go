package machine

import (
	"os"
	"path/filepath"
	"testing"
)

// TestKeepPrivate: a file that others may read is taken away from them, and nothing else is touched.
func TestKeepPrivate(t *testing.T) {
	path := filepath.Join(t.TempDir(), "runs.db")
	for mode, want := range map[os.FileMode]os.FileMode{0o644: 0o600, 0o640: 0o600, 0o400: 0o400, 0o600: 0o600} {
		os.Remove(path)
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
		if err := KeepPrivate(path); err != nil {
			t.Fatal(err)
		}
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != want {
			t.Errorf("of %v it makes %v, %v", mode, info.Mode().Perm(), err)
		}
	}
	folder := t.TempDir()
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := KeepPrivate(folder); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(folder); err != nil || info.Mode().Perm() != 0o755 {
		t.Errorf("a folder becomes %v, %v", info.Mode(), err)
	}
}
