package client

import (
	"strings"

	"tidepull/internal/base/secret"
)

// leastIssued is the shortest text of a server's that is hidden, in bytes: a shorter one stands everywhere.
const leastIssued = 6

// issued hides what the server has given to one client.
type issued struct {
	values string // the texts, to see whether they are still the same
	hider  *secret.Hider
}

// maxIssued bounds the clients for which that is kept ready.
const maxIssued = 512

// hide takes secrets out of a text that is about to be kept or shown: the trial's, and what the server has
// given to the client at hand, its cookies and what its session keeps as a secret.
func (e *Env) hide(s string) string { return e.own().Text(e.Trial.Hide(s)) }

// hideBytes is hide for bytes.
func (e *Env) hideBytes(b []byte) []byte { return e.own().Bytes(e.Trial.HideBytes(b)) }

// own is the hider of the client at hand; nil if the server has given it nothing secret.
func (e *Env) own() *secret.Hider {
	if e.c == nil || len(e.Trial.SecretLocals) == 0 && e.c.path.rare == nil {
		return nil
	}
	var all []string
	for _, i := range e.Trial.SecretLocals {
		if l := e.c.script.locals; i < len(l) && len(l[i].Str) >= leastIssued {
			all = append(all, string(l[i].Str))
		}
	}
	if x := e.c.path.rare; x != nil {
		for v := range x.jar.Values {
			if len(v) >= leastIssued {
				all = append(all, v)
			}
		}
	}
	if len(all) == 0 {
		return nil
	}
	values := strings.Join(all, "\x00")
	h, known := e.issued[e.c.id]
	if !known || h.values != values {
		if e.issued == nil || len(e.issued) >= maxIssued {
			e.issued = map[int32]issued{}
		}
		h = issued{values, secret.Of(all)}
		e.issued[e.c.id] = h
	}
	return h.hider
}
