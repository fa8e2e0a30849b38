package sim

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
)

// Skewed is a dialling side on a machine whose clock is wrong by so much.
func Skewed(d poll.Driver, by time.Duration) poll.Driver { return &skewed{d.(*side), by} }

type skewed struct {
	*side
	by time.Duration
}

// Now implements poll.Driver.
func (s *skewed) Now() mono.Time { return s.side.Now().Add(s.by) }

// CaughtUp implements poll.Driver.
func (s *skewed) CaughtUp() mono.Time { return s.Now() }

// Blocked implements poll.Driver.
func (s *skewed) Blocked() time.Duration { return time.Duration(s.Now()) }

// Gone implements poll.Driver.
func (s *skewed) Gone(id int32) mono.Span { return s.span(s.side.Gone(id)) }

func (s *skewed) span(at mono.Span) mono.Span {
	if at == (mono.Span{}) {
		return at
	}
	return mono.Span{From: at.From.Add(s.by), To: at.To.Add(s.by)}
}

// Wait implements poll.Driver.
func (s *skewed) Wait(until mono.Time, h poll.Handler) error {
	return s.side.Wait(until.Add(-s.by), skewedHandler{h, s})
}

type skewedHandler struct {
	poll.Handler
	side *skewed
}

// Data implements poll.Handler.
func (h skewedHandler) Data(id int32, b []byte, came mono.Span) {
	h.Handler.Data(id, b, h.side.span(came))
}
