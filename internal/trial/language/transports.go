package language

import "github.com/hashicorp/hcl/v2"

// webSocketOnly are the steps, and the attributes of steps, that TCP alone has nothing
// for.
var webSocketOnly = map[string][]string{
	"connect": {"path", "headers", "origin", "subprotocol", "bearer"}, "close": {"code", "reason"}, "say": {"binary"},
	"send": {"binary"}, "whisper": {"binary"},
	"fall_silent": nil, "malformed": nil, "expect_close": {"code", "reason"},
}

// checkTransport reports what a step asks for that the target's transport does not
// have.
func (r *reader) checkTransport(b *hcl.Block, a hcl.Attributes) {
	if !r.trial.Target.OverTCP() {
		return
	}
	if b.Type == "request" && r.trial.Target.HTTP == "" {
		r.fail(b.DefRange, "the target has no address for requests: give it http, an http:// address")
	}
	names, known := webSocketOnly[b.Type]
	if b.Type == "fall_silent" && (r.trial.Dialect.Beat.When != nil || r.trial.Dialect.Beat.Every > 0) {
		return // there are beats in messages
	}
	if known && names == nil {
		r.fail(b.DefRange, "%s needs a target with websocket; TCP has no beats and no frames", b.Type)
	}
	for _, name := range names {
		if given := a[name]; given != nil {
			r.fail(given.NameRange, "%s needs a target with websocket; TCP has none", name)
		}
	}
}
