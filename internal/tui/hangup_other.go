//go:build !unix

package tui

import tea "charm.land/bubbletea/v2"

// quitOnHangup does nothing: there is no such signal here.
func quitOnHangup(*tea.Program) (stop func()) { return func() {} }
