package ws

import (
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/wire/http1"
)

// guid is the string that RFC 6455 1.3 has both sides hash with the key.
const guid = "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"

// AcceptFor gives the Sec-WebSocket-Accept value that answers a key
// (RFC 6455 4.2.2).
func AcceptFor(key string) string {
	sum := sha1.Sum([]byte(key + guid))
	return base64.StdEncoding.EncodeToString(sum[:])
}

// KeyFor encodes the 16 bytes of a client's nonce as Sec-WebSocket-Key.
func KeyFor(nonce [16]byte) string { return base64.StdEncoding.EncodeToString(nonce[:]) }

// AppendRequest appends a client's opening handshake (RFC 6455 4.1). extra
// fields come last.
func AppendRequest(dst []byte, host, path, key string, extra ...http1.Field) []byte {
	fields := append([]http1.Field{
		{Name: "Host", Value: host},
		{Name: "Upgrade", Value: "websocket"},
		{Name: "Connection", Value: "Upgrade"},
		{Name: "Sec-WebSocket-Key", Value: key},
		{Name: "Sec-WebSocket-Version", Value: "13"},
	}, extra...)
	return http1.AppendRequest(dst, "GET", path, fields...)
}

// A Refusal is an answer to an opening handshake that is not the agreement to
// switch.
type Refusal struct {
	Status int    // the status of the answer
	Why    string // what about it is not as it must be
	// After is how long the server wants to be left alone (Retry-After, RFC 9110 10.2.3); 0 if
	// it does not say.
	After time.Duration
	Body  string // what came with the answer, if anybody wants to know, up to 4 KiB
}

func (e *Refusal) Error() string {
	return fmt.Sprintf("the upgrade was refused: %s", e.Why)
}

// CheckResponse reports whether a server's answer agrees to switch to WebSocket
// for this key (RFC 6455 4.1, "client requirements"). The error is a *Refusal.
func CheckResponse(h *http1.Head, key string, o Offer) error {
	refuse := func(format string, a ...any) error {
		return &Refusal{Status: h.Status, Why: fmt.Sprintf(format, a...)}
	}
	switch {
	case h.Status == 200:
		return refuse("the upgrade did not come through: answered 200 %s", plain.Text(h.Reason, 60))
	case h.Status != 101:
		return refuse("answered %d %s", h.Status, plain.Text(h.Reason, 60))
	case !h.HasToken("Upgrade", "websocket"):
		return refuse("the answer has no Upgrade: websocket")
	case !h.HasToken("Connection", "upgrade"):
		return refuse("the answer has no Connection: Upgrade")
	case h.Get("Sec-WebSocket-Accept") != AcceptFor(key):
		return refuse("Sec-WebSocket-Accept does not belong to the key that was sent")
	case h.Get("Sec-WebSocket-Protocol") != "" && !slices.Contains(o.Protocols, h.Get("Sec-WebSocket-Protocol")):
		return refuse("the server picked the subprotocol %q, which was not offered",
			plain.Text(h.Get("Sec-WebSocket-Protocol"), 60))
	}
	if _, err := o.Deflate.Agreed(h.Get("Sec-WebSocket-Extensions")); err != nil {
		return refuse("%v", err)
	}
	return nil
}

// An Offer is what a client's opening handshake offered.
type Offer struct {
	Protocols []string
	Deflate   *Deflate // nil: no compression
}

// CheckRequest says what is wrong with a client's opening handshake, or "".
func CheckRequest(h *http1.Head) string {
	key, err := base64.StdEncoding.DecodeString(h.Get("Sec-WebSocket-Key"))
	switch {
	case h.Method != "GET" || h.Old:
		return "a handshake is a GET of HTTP/1.1"
	case h.Count("Host") != 1:
		return "a request of HTTP/1.1 has one Host"
	case !h.HasToken("Upgrade", "websocket") || !h.HasToken("Connection", "upgrade"):
		return "no Upgrade: websocket with Connection: Upgrade"
	case h.Get("Sec-WebSocket-Version") != "13":
		return "the only version spoken here is 13"
	case h.Count("Sec-WebSocket-Key") != 1 || err != nil || len(key) != 16:
		return "Sec-WebSocket-Key is missing or not 16 bytes in base64"
	}
	return ""
}

// AppendAgreement appends the server's answer that agrees to switch.
func AppendAgreement(dst []byte, key string, more ...http1.Field) []byte {
	return http1.AppendResponse(dst, 101, "Switching Protocols", append([]http1.Field{
		{Name: "Upgrade", Value: "websocket"},
		{Name: "Connection", Value: "Upgrade"},
		{Name: "Sec-WebSocket-Accept", Value: AcceptFor(key)}}, more...)...)
}
