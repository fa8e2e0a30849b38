package ws

// A Frame is one frame as it is on the wire (RFC 6455 5.2).
type Frame struct {
	Fin     bool
	RSV     byte // the three reserved bits; 4 is compression (RFC 7692 6)
	Op      byte
	Masked  bool
	Payload []byte // unmasked, a copy
}

// parseFrame reads one frame from the front of b, whoever sent it and whatever
// it says: it is for looking on, not for taking part. n is 0 if b does not
// hold it all. Only a frame that is too large, or has an impossible length,
// is an error.
func parseFrame(b []byte) (f Frame, n int, err error) {
	if len(b) < 2 {
		return f, 0, nil
	}
	r := Reader{FromPeer: Server}
	if f.Masked = b[1]&0x80 != 0; f.Masked {
		r.FromPeer = Client
	}
	head := append([]byte(nil), b[:min(len(b), 14)]...)
	f.Fin, f.RSV, f.Op = head[0]&0x80 != 0, head[0]>>4&7, head[0]&0x0f
	head[0] = 0x80 | OpBinary // what it says is not judged here
	h, err := r.parseHeader(head)
	if err != nil || h.size == 0 || len(b)-h.size < h.length {
		return f, 0, err
	}
	n = h.size + h.length
	f.Payload = append([]byte(nil), b[h.size:n]...)
	if f.Masked {
		mask(f.Payload, h.mask)
	}
	return f, n, nil
}

// OpName names an opcode.
func OpName(op byte) string {
	switch op {
	case OpContinuation:
		return "continuation"
	case OpText:
		return "text"
	case OpBinary:
		return "binary"
	case OpClose:
		return "close"
	case OpPing:
		return "ping"
	case OpPong:
		return "pong"
	}
	return "reserved"
}

// CloseWords says what a close code means (RFC 6455 7.4.1, and the registry
// behind it).
func CloseWords(code uint16) string {
	switch code {
	case 1000:
		return "normal: the purpose is fulfilled"
	case 1001:
		return "going away: the server shuts down, or the page is left"
	case 1002:
		return "protocol error"
	case 1003:
		return "unsupported: a kind of data that is not taken here"
	case 1005:
		return "no code was given"
	case 1006:
		return "no close frame: the connection just ended"
	case 1007:
		return "bad payload: the text is no valid UTF-8, or not as it must be"
	case 1008:
		return "policy: not allowed here"
	case 1009:
		return "too big: the message is larger than what is taken here"
	case 1010:
		return "the server lacks an extension that the client needs"
	case 1011:
		return "internal error: the server met something unexpected"
	case 1012:
		return "the service restarts"
	case 1013:
		return "try again later"
	case 1014:
		return "bad gateway"
	case 1015:
		return "the TLS handshake failed"
	}
	switch {
	case code >= 3000 && code < 4000:
		return "a code of a framework, registered"
	case code >= 4000 && code < 5000:
		return "a code of the application's own"
	}
	return "a code that must not be sent"
}
