//go:build unix

package tui

import (
	"os"
	"os/signal"
	"syscall"

	tea "charm.land/bubbletea/v2"
)

// quitOnHangup leaves the screen as it was when the terminal goes away.
func quitOnHangup(p *tea.Program) (stop func()) {
	signals, done := make(chan os.Signal, 1), make(chan struct{})
	signal.Notify(signals, syscall.SIGHUP)
	go func() {
		select {
		case <-signals:
			p.Quit()
		case <-done:
		}
	}()
	return func() {
		signal.Stop(signals)
		close(done)
	}
}
