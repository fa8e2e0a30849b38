package main

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"

	"tidepull/internal/engine/machine"
)

// openLog opens the tool's own log. If that cannot be, the tool works
// without one; if the user named the file, it is said.
func openLog(path string) (log *slog.Logger, closeLog func()) {
	named := path != ""
	if !named {
		path = defaultLog()
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		_ = machine.KeepPrivate(path) // if it is another's file it stays as it is
	}
	if err != nil {
		if named {
			fmt.Fprintf(os.Stderr, "tidepull: no log is written: %v\n", err)
		}
		return slog.New(slog.DiscardHandler), func() {}
	}
	return slog.New(slog.NewTextHandler(f, nil)), func() { f.Close() }
}

// defaultLog is tidepull/tidepull.log in the user's folder for state (XDG Base
// Directory Specification).
func defaultLog() string {
	path, err := xdg.StateFile(filepath.Join("tidepull", "tidepull.log")) // makes the folder, for its owner alone
	if err != nil {
		return os.DevNull
	}
	return path
}
