package standin

import (
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// agree answers an opening handshake, and takes the compression that it offers.
func (l *loop) agree(id int32, c *conn, r *request) {
	var more []http1.Field
	if l.cfg.Deflate {
		if agreed, answer := ws.Accept(r.Get("Sec-WebSocket-Extensions")); agreed != nil {
			more = []http1.Field{{Name: "Sec-WebSocket-Extensions", Value: answer}}
			c.packs, c.said = agreed, ws.PastFor(agreed.ServerFresh)
			c.reader.Unpacks = &ws.Unpacking{Flater: &l.flater, Bits: agreed.ClientBits,
				Past: ws.PastFor(agreed.ClientFresh)}
		}
	}
	l.drv.Write(id, ws.AppendAgreement(nil, r.Get("Sec-WebSocket-Key"), more...))
}

// deflated is a frame as it goes to a client that agreed on compression.
func (l *loop) deflated(c *conn, frame []byte) []byte {
	if c.packs == nil || frame[0]&0xf > ws.OpBinary {
		return frame
	}
	packed := l.flater.Pack(nil, payloadOf(frame), c.said, c.packs.ServerBits)
	out := ws.AppendFrame(nil, frame[0]&0xf, packed)
	out[0] |= ws.CompressedBit
	return out
}
