//go:build !unix

package tui

import tea "charm.land/bubbletea/v2"

// suspend puts the program aside, if the system has a way to.
func suspend() tea.Cmd { return tea.Suspend }
