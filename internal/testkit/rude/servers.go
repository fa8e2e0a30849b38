package rude

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"strings"

	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// harbour is a decent little board: names, one room, notices to all in it. A
// behaviour does something more.
func harbour(more func(c *Conn, msg map[string]any) bool) func(*Conn, byte, []byte) {
	return func(c *Conn, op byte, b []byte) {
		if op == ws.OpClose {
			name, _ := json.Marshal(c.Name)
			room, _ := json.Marshal(c.Room)
			c.Others(func(o *Conn) {
				if o.Room == c.Room {
					o.Text(`{"kind":"left","room":` + string(room) + `,"who":` + string(name) + `}`)
				}
			})
			c.Close(ws.CloseNormal, "")
			c.Finish()
			return
		}
		var msg map[string]any
		if op != ws.OpText || json.Unmarshal(b, &msg) != nil || more != nil && more(c, msg) {
			return
		}
		switch msg["kind"] {
		case "name":
			c.Name = fmt.Sprint(msg["name"])
			c.Text(`{"kind":"named"}`)
		case "enter":
			c.Room = fmt.Sprint(msg["room"])
			room, _ := json.Marshal(c.Room)
			c.Text(`{"kind":"entered","room":` + string(room) + `}`)
		case "notice":
			for _, o := range c.s.conns {
				if o != nil && o.open && o.Room == c.Room {
					o.Send(ws.AppendFrame(nil, ws.OpText, b))
				}
			}
		}
	}
}

// Finish ends the connection once what waits is sent.
func (c *Conn) Finish() {
	c.s.drv.CloseWhenFlushed(c.id)
	c.open = false
	c.s.conns[c.id] = nil
}

func header(first byte, length int) []byte {
	return binary.BigEndian.AppendUint64([]byte{first, 127}, uint64(length))
}

func flood(b []byte) func(*Conn, int) {
	return func(c *Conn, _ int) {
		for i := 0; i < 16 && c.canSend(); i++ {
			c.Send(b)
		}
	}
}

// Servers are all of them.
var Servers = []Server{
	{Name: "decent", Does: "nothing wrong", Frame: harbour(nil)},
	{Name: "pings and never reads", Does: "sends pings as fast as they go out, and reads nothing", Deaf: true,
		Tick: flood(bytes.Repeat(ws.AppendFrame(nil, ws.OpPing, make([]byte, 125)), 100))},
	{Name: "endless fragments", Does: "sends one message in fragments without end",
		Open: func(c *Conn) { c.Send([]byte{0x01, 1, 'a'}) },
		Tick: flood(append([]byte{0x00, 126, 0x7f, 0xff}, make([]byte, 0x7fff)...))},
	{Name: "half a frame", Does: "announces a message of 16 MiB to every client and sends all but its end",
		Open: func(c *Conn) { c.Send(header(0x82, 16<<20)) },
		Tick: func(c *Conn, _ int) {
			for ; c.N < 15<<20 && c.canSend(); c.N += 1 << 16 {
				c.Send(make([]byte, 1<<16))
			}
		}},
	{Name: "too large", Does: "announces a message of 1 TiB", Open: func(c *Conn) { c.Send(header(0x82, 1<<40)) }},
	{Name: "closes for ever", Does: "answers a close with close frames without end, and keeps the connection",
		Frame: func(c *Conn, op byte, b []byte) {
			if op == ws.OpClose {
				c.N = 1
				return
			}
			harbour(nil)(c, op, b)
		},
		Tick: func(c *Conn, n int) {
			if c.N == 1 && c.canSend() {
				c.Close(ws.CloseNormal, "still here")
			}
		}},
	{Name: "never lets go", Does: "does not answer a close, and sends messages without end",
		Frame: func(c *Conn, op byte, b []byte) {
			if op != ws.OpClose {
				harbour(nil)(c, op, b)
			}
		},
		Tick: flood(ws.AppendFrame(nil, ws.OpText, []byte(`{"kind":"gauge","metres":3.2}`)))},
	{Name: "small pieces", Does: "sends a message of 15 MiB in pieces of 1,448 bytes",
		Open: func(c *Conn) { c.Send(header(0x82, 15<<20)) },
		Tick: func(c *Conn, _ int) {
			for i := 0; i < 40 && c.N < 15<<20 && c.canSend(); i++ {
				n := min(1448, 15<<20-c.N)
				c.Send(make([]byte, n))
				c.N += n
			}
		},
		Frame: harbour(nil)},
	{Name: "false farewells", Does: "announces of everybody to everybody that they left, though they are there",
		Frame: harbour(func(c *Conn, msg map[string]any) bool {
			if msg["kind"] == "notice" && c.N == 0 {
				c.N = 1
				name, _ := json.Marshal(c.Name)
				room, _ := json.Marshal(c.Room)
				c.Others(func(o *Conn) {
					o.Text(`{"kind":"left","room":` + string(room) + `,"who":` + string(name) +
						`}`)
				})
			}
			return false
		})},
	{Name: "false arrivals", Does: "announces of everybody who closes that they have come",
		Frame: func(c *Conn, op byte, b []byte) {
			entering := c.Room == ""
			harbour(nil)(c, op, b)
			if op == ws.OpClose || entering && c.Room != "" {
				name, _ := json.Marshal(c.Name)
				room, _ := json.Marshal(c.Room)
				c.Others(func(o *Conn) {
					if o.Room == c.Room {
						o.Text(`{"kind":"joined","room":` + string(room) + `,"who":` + string(name) + `}`)
					}
				})
			}
		}},
	{Name: "wild numbers", Does: "numbers and dates what it pushes with 1e300, -1e300, fractions and nanoseconds",
		Frame: harbour(nil),
		Tick: func(c *Conn, n int) {
			if n%50 == 0 && c.canSend() {
				c.Text(fmt.Sprintf(`{"kind":"gauge","seq":%s,"at":1767225600000000000,"members":-1e300}`,
					[]string{"1", "1e300", "2", "-1e300", "2.5", "9007199254740992", "3"}[n/50%7]))
			}
		}},
	{Name: "a reason for each", Does: "closes every connection with a reason of its own, full of control characters",
		Frame: func(c *Conn, op byte, b []byte) {
			if c.s.server.N++; op == ws.OpText {
				c.Close(4000, fmt.Sprintf("\x1b[2J\x07%x\u202e no", c.s.server.N*7919))
				c.Finish()
			}
		}},
	{Name: "marks without end", Does: "sends messages of 64 KiB full of things that look like marks, in capitals",
		Frame: harbour(nil),
		Tick: func(c *Conn, n int) {
			if n%200 == 0 && c.canSend() {
				c.Text(strings.Repeat("TPMK0000000000000000000000000000000000", 1700))
			}
		}},
	{Name: "no answer", Does: "never answers the handshake", Shake: func(*Conn, *http1.Head) {}},
	{Name: "endless head", Does: "answers the handshake with header fields without end",
		Shake: func(c *Conn, _ *http1.Head) {
			c.Send([]byte("HTTP/1.1 101 Switching Protocols\r\n"))
			c.open = true
		},
		Tick: flood([]byte("X-Filler: the tide turns at the outer lock\r\n"))},
	{Name: "wrong key", Does: "agrees with a key that does not belong to the handshake",
		Shake: func(c *Conn, h *http1.Head) {
			c.Send(ws.AppendAgreement(nil, "AAAAAAAAAAAAAAAAAAAAAA=="))
		}},
	{Name: "early hints", Does: "sends 103 and 100 before it agrees, as it may", Shake: func(c *Conn, h *http1.Head) {
		c.Send([]byte("HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\nHTTP/1.1 100 Continue\r\n\r\n"))
		c.Agree(h)
	}, Frame: harbour(nil)},
	{Name: "refuses with words", Does: "answers the handshake with 503", Shake: func(c *Conn, _ *http1.Head) {
		c.Send([]byte("HTTP/1.1 503 the port is closed\x1b[31m\r\nContent-Length: 0\r\n\r\n"))
		c.Finish()
	}},
	{Name: "hangs up", Does: "takes the connection and hangs up at once",
		Shake: func(c *Conn, _ *http1.Head) { c.Hangup() }},
	{Name: "silent", Does: "agrees and never says anything", Frame: func(*Conn, byte, []byte) {}},
	{Name: "masked", Does: "sends masked frames, which only clients may", Open: func(c *Conn) {
		c.Send(ws.AppendMasked(nil, ws.OpText, []byte("{}"), [4]byte{1, 2, 3, 4}))
	}},
	{Name: "no text", Does: "sends text that is no UTF-8", Open: func(c *Conn) {
		c.Send(ws.AppendFrame(nil, ws.OpText, []byte("caf\xe9 \xff\xfe")))
	}},
	{Name: "deep", Does: "sends JSON nested 200,000 deep, and cut off", Frame: harbour(nil), Open: func(c *Conn) {
		c.Text(`{"kind":` + strings.Repeat("[", 200_000))
	}},
	{Name: "new words each time", Does: "sends messages that nothing recognises, each unlike the others",
		Frame: harbour(nil), Tick: func(c *Conn, n int) {
			if n%10 == 0 && c.canSend() {
				c.s.server.N++
				c.Text(fmt.Sprintf(`{"kind":"%s\u001b[2J"}`,
					strings.Map(func(r rune) rune { return r - '0' + 'a' }, fmt.Sprint(c.s.server.N*7919))))
			}
		}},
}
