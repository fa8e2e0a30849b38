package language

import (
	"github.com/hashicorp/hcl/v2"

	"tidepull/internal/trial"
)

// webSocketOnly are the steps, and the attributes of steps, that no transport but
// WebSocket has anything for; requestsOnly are those that TCP and UDP have nothing for.
var (
	webSocketOnly = map[string][]string{
		"connect": {"subprotocol", "malformed"}, "close": {"code", "reason"}, "say": {"binary"}, "send": {"binary"},
		"whisper": {"binary"}, "fall_silent": nil, "malformed": nil, "expect_close": {"code", "reason"},
	}
	requestsOnly = map[string][]string{"connect": {"path", "headers", "origin", "bearer"}}
)

// checkTransport reports what a step asks for that none of the target's routes has.
func (r *reader) checkTransport(b *hcl.Block, a hcl.Attributes) {
	t := &r.trial.Target
	if b.Type == "request" && t.HTTP == "" {
		r.fail(b.DefRange, "the target has no address for requests: give it http, an http:// address")
	}
	if t.Has(trial.WebSocket) {
		return
	}
	if !t.Has(trial.OverHTTP) {
		for _, name := range requestsOnly[b.Type] {
			if given := a[name]; given != nil {
				r.fail(given.NameRange, "%s needs a target with websocket, or over HTTP; TCP and UDP have none", name)
			}
		}
	}
	names, known := webSocketOnly[b.Type]
	if b.Type == "fall_silent" && (r.trial.Dialect.Beat.When != nil || r.trial.Dialect.Beat.Every > 0) {
		return // there are beats in messages
	}
	if known && names == nil {
		r.fail(b.DefRange, "%s needs a target with websocket; others have no beats and no frames", b.Type)
	}
	for _, name := range names {
		if given := a[name]; given != nil {
			r.fail(given.NameRange, "%s needs a target with websocket; others have none", name)
		}
	}
}
