package tui

import "tidepull/internal/run"

func Show(r *run.Run, version string) error { <-r.Done(); return nil }
