package conform

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"fmt"
	"strings"

	"tidepull/internal/wire/ws"
)

// deflate is the section of cases that need compression to be agreed on.
const deflate = "RFC 7692 7.2"

// frame makes a masked frame by hand. size, if it is not nil, stands where the length does.
func frame(first byte, payload []byte, size []byte) []byte {
	key := [4]byte{0x37, 0xfa, 0x21, 0x3d}
	b := []byte{first}
	switch {
	case size != nil:
		b = append(b, size...)
	case len(payload) < 126:
		b = append(b, 0x80|byte(len(payload)))
	case len(payload) < 1<<16:
		b = binary.BigEndian.AppendUint16(append(b, 0x80|126), uint16(len(payload)))
	default:
		b = binary.BigEndian.AppendUint64(append(b, 0x80|127), uint64(len(payload)))
	}
	b = append(b, key[:]...)
	for i, c := range payload {
		b = append(b, c^key[i%4])
	}
	return b
}

const fin = 0x80

func text(s string) []byte { return frame(fin|ws.OpText, []byte(s), nil) }

// raw is a case's bytes as they stand.
func raw(parts ...[]byte) func(*knock) []byte {
	all := bytes.Join(parts, nil)
	return func(*knock) []byte { return all }
}

// fields makes a handshake with other fields: each is "NAME: VALUE", or "-NAME" to leave one
// out.
func fields(changes ...string) func(*knock) []byte {
	return func(k *knock) []byte {
		lines := strings.Split(strings.TrimSuffix(string(k.decent()), "\r\n\r\n"), "\r\n")
		for _, change := range changes {
			name, _, more := strings.Cut(strings.TrimPrefix(change, "-"), ":")
			if !strings.HasPrefix(change, "+") {
				kept := lines[:1:1]
				for _, l := range lines[1:] {
					if n, _, _ := strings.Cut(l, ":"); !strings.EqualFold(n, name) {
						kept = append(kept, l)
					}
				}
				lines = kept
			}
			if more {
				lines = append(lines, strings.TrimPrefix(change, "+"))
			}
		}
		return []byte(strings.Join(lines, "\r\n") + "\r\n\r\n")
	}
}

// decent is the handshake as it should be.
func (k *knock) decent() []byte {
	return ws.AppendRequest(nil, k.target.Host, k.target.Path, k.key, k.target.Fields...)
}

// first changes the request line.
func first(change func(line string) string) func(*knock) []byte {
	return func(k *knock) []byte {
		line, rest, _ := strings.Cut(string(k.decent()), "\r\n")
		return []byte(change(line) + "\r\n" + rest)
	}
}

func closing(code uint16, reason string) []byte {
	return frame(fin|ws.OpClose, ws.AppendClosePayload(nil, code, reason), nil)
}

// pings are the contents of the pings that must be answered, by the names of their cases.
var pings = map[string][]byte{
	"a ping without content":                {},
	"a ping with the most that it can hold": bytes.Repeat([]byte("tide "), 25),
	"a ping whose content is no text":       {0xff, 0x00, 0xfe},
	"a ping in the middle of a message":     []byte("between"),
}

func pingOf(name string) []byte { return pings[name] }

func ping(name string) []byte { return frame(fin|ws.OpPing, pings[name], nil) }

// packed compresses as permessage-deflate does.
func packed(b []byte) []byte {
	var out bytes.Buffer
	w, _ := flate.NewWriter(&out, flate.BestCompression) // the level is one
	w.Write(b)
	w.Flush()
	return bytes.TrimSuffix(out.Bytes(), []byte{0, 0, 0xff, 0xff})
}

// Cases are all of them, in the order of the standard.
var Cases = cases()

func cases() (all []Case) {
	add := func(name, section string, d Demand, code uint16, send func(*knock) []byte) *Case {
		all = append(all, Case{Name: name, Section: section, Demand: d, Code: code, send: send})
		return &all[len(all)-1]
	}
	refuse := func(name, section string, status uint16, send func(*knock) []byte) *Case {
		return add(name, section, MustRefuse, status, send)
	}
	agree := func(name, section string, send func(*knock) []byte) { add(name, section, MustAgree, 0, send) }
	fail := func(name, section string, code uint16, parts ...[]byte) *Case {
		return add(name, section, MustFail, code, raw(parts...))
	}
	bear := func(name, section string, parts ...[]byte) { add(name, section, MustBear, 0, raw(parts...)) }

	// the handshake
	refuse("a version that nobody speaks", "4.4", 426, fields("Sec-WebSocket-Version: 12"))
	refuse("no version", "4.2.1", 0, fields("-Sec-WebSocket-Version"))
	refuse("a version that is no number", "4.2.1", 0, fields("Sec-WebSocket-Version: thirteen"))
	refuse("no key", "4.2.1", 0, fields("-Sec-WebSocket-Key"))
	refuse("two keys", "11.3.1", 0, fields("+Sec-WebSocket-Key: dGlkZSB0YWJsZXMgMTIzNA=="))
	refuse("a key of three bytes", "4.2.1", 0, fields("Sec-WebSocket-Key: YWJj"))
	refuse("a key that is not base64", "4.2.1", 0, fields("Sec-WebSocket-Key: ????????????????????????"))
	refuse("POST instead of GET", "4.2.1", 0, first(func(l string) string {
		return "POST" + strings.TrimPrefix(l,
			"GET")
	}))
	refuse("HTTP/1.0", "4.2.1", 0, first(func(l string) string {
		return strings.Replace(l, "HTTP/1.1", "HTTP/1.0",
			1)
	}))
	refuse("no Host", "4.2.1", 400, fields("-Host"))
	refuse("two Hosts", "RFC 9112 3.2", 400, fields("+Host: elsewhere.example"))
	refuse("no Upgrade", "4.2.1", 0, fields("-Upgrade"))
	refuse("an upgrade to something else", "4.2.1", 0, fields("Upgrade: h2c"))
	refuse("no Connection", "4.2.1", 0, fields("-Connection"))
	refuse("Connection without upgrade", "4.2.1", 0, fields("Connection: close"))
	refuse("a folded field", "RFC 9112 5.2", 400, fields("+X-Tide: high\r\n water")).May = "a server may unfold it " +
		"instead"
	refuse("a space before the colon", "RFC 9112 5.1", 400, fields("+X-Tide : high"))
	refuse("a zero byte in a field", "RFC 9110 5.5", 400,
		fields("+X-Tide: hi\x00gh")).May = "a server may put a space in its place"
	refuse("a request line that is none", "RFC 9112 3", 400, first(func(string) string { return "KNOCK" }))
	refuse("a head without end", "RFC 9110 5.4", 431, fields("+X-Tide: "+strings.Repeat("high ", 60_000)))
	agree("Upgrade in another case", "4.2.1", fields("Upgrade: WebSocket"))
	agree("names of fields in another case", "RFC 9110 5.1", fields("-Upgrade", "uPGRADE: websocket"))
	agree("Connection: keep-alive, Upgrade", "4.2.1", fields("Connection: keep-alive, Upgrade"))
	agree("an extension that nobody knows", "9.1", fields("Sec-WebSocket-Extensions: tide-pull-conform; level=5"))
	agree("a subprotocol that nobody knows", "4.2.2", fields("Sec-WebSocket-Protocol: tide-pull.conform"))
	agree("a hundred more fields", "RFC 9110 5.4", func(k *knock) []byte {
		var more []string
		for i := range 100 {
			more = append(more, fmt.Sprintf("+X-Tide-%d: high", i))
		}
		return fields(more...)(k)
	})

	// frames
	unmasked := ws.AppendFrame(nil, ws.OpText, []byte("tide"))
	fail("a text that is not masked", "5.1", 1002, unmasked)
	fail("a ping that is not masked", "5.1", 1002, ws.AppendFrame(nil, ws.OpPing, []byte("tide")))
	for i, bit := range []byte{0x40, 0x20, 0x10} {
		fail(fmt.Sprintf("reserved bit %d", i+1), "5.2", 1002, frame(fin|bit|ws.OpText, []byte("tide"), nil))
	}
	fail("a reserved bit in a ping", "5.2", 1002, frame(fin|0x20|ws.OpPing, nil, nil))
	for _, op := range []byte{3, 4, 5, 6, 7} {
		fail(fmt.Sprintf("opcode %d", op), "5.2", 1002, frame(fin|op, []byte("tide"), nil))
	}
	for _, op := range []byte{0xb, 0xc, 0xf} {
		fail(fmt.Sprintf("control opcode %d", op), "5.2", 1002, frame(fin|op, nil, nil))
	}
	fail("5 bytes with a length of two bytes", "5.2", 1002, frame(fin|ws.OpText, []byte("tides"),
		[]byte{0x80 | 126, 0, 5})).May = "the standard demands it of who sends"
	fail("5 bytes with a length of eight bytes", "5.2", 1002,
		frame(fin|ws.OpText, []byte("tides"), []byte{0x80 | 127, 0, 0, 0, 0, 0, 0, 0,
			5})).May = "the standard demands it of who sends"
	fail("a length whose highest bit is set", "5.2", 1002,
		frame(fin|ws.OpText, nil, []byte{0x80 | 127, 0x80, 0, 0, 0, 0, 0, 0, 5}))
	fail("a message of 2 to the power of 62 bytes", "10.4", 1009,
		frame(fin|ws.OpText, []byte("tide"), []byte{0x80 | 127, 0x40, 0, 0, 0, 0, 0, 0, 0}))
	long := bytes.Repeat([]byte("t"), 126)
	fail("a ping of 126 bytes", "5.5", 1002, frame(fin|ws.OpPing, long, nil))
	fail("a pong of 126 bytes", "5.5", 1002, frame(fin|ws.OpPong, long, nil))
	fail("a close of 126 bytes", "5.5", 1002, closing(1000, string(long[:124])))
	fail("a ping in fragments", "5.5", 1002, frame(ws.OpPing, []byte("ti"), nil), frame(fin, []byte("de"), nil))
	fail("a close in fragments", "5.5", 1002, frame(ws.OpClose, []byte{3, 0xe8}, nil), frame(fin, nil, nil))
	fail("a fragment that goes on with nothing", "5.4", 1002, frame(fin, []byte("tide"), nil))
	fail("a fragment that goes on with nothing, and is not the last", "5.4", 1002, frame(0, []byte("tide"), nil))
	fail("a text inside another one", "5.4", 1002, frame(ws.OpText, []byte("ti"), nil), text("de"))
	fail("bytes inside a text", "5.4", 1002, frame(ws.OpText, []byte("ti"), nil), frame(fin|ws.OpBinary,
		[]byte("de"), nil))
	fail("a close with half a code", "5.5.1", 1002, frame(fin|ws.OpClose, []byte{3}, nil))
	for _, code := range []uint16{0, 999, 1004, 1005, 1006, 1015, 1016, 2999, 5000, 65535} {
		fail(fmt.Sprintf("a close with code %d", code), "7.4", 1002, closing(code, ""))
	}
	fail("a close whose reason is no UTF-8", "5.5.1, 8.1", 1007, closing(1000, "\xff\xfe"))
	for _, bad := range []struct{ name, text string }{
		{"a text with a byte that UTF-8 has not", "tide \xff"},
		{"a text with a byte that goes on with nothing", "tide \x80"},
		{"a text that is written longer than it need be", "tide \xc0\xaf"},
		{"a text with half a pair of UTF-16", "tide \xed\xa0\x80"},
		{"a text beyond the last character", "tide \xf4\x90\x80\x80"},
		{"a text that ends in the middle of a character", "tide \xe2\x82"},
	} {
		fail(bad.name, "8.1", 1007, text(bad.text))
	}
	fail("a bad text in fragments, cut inside a character", "8.1", 1007, frame(ws.OpText, []byte("tide \xe2"), nil),
		frame(0, []byte("\x82"), nil), frame(fin, []byte("\x28"), nil))
	add("something after a close", "5.5.1", MustClose, 0, raw(closing(1000, ""), text("one more thing")))

	// what must be borne
	bear("an empty text", "5.6", text(""))
	bear("a pong that nobody asked for", "5.5.3", frame(fin|ws.OpPong, []byte("tide"), nil))
	bear("a text in three fragments", "5.4", frame(ws.OpText, []byte("{\"ti"), nil), frame(0, []byte("de\":"), nil),
		frame(fin, []byte("1}"), nil))
	bear("empty fragments", "5.4", frame(ws.OpText, nil, nil), frame(0, nil, nil), frame(fin, []byte("{}"), nil))
	bear("a character that is cut by fragments", "8.1", frame(ws.OpText, []byte("{\"a\":\"\xe2"), nil),
		frame(0, []byte("\x82"), nil), frame(fin, []byte("\xac\"}"), nil))
	bear("several frames at once", "5.2", text("{}"), frame(fin|ws.OpPong, nil, nil), text("{}"))
	for _, name := range []string{"a ping without content", "a ping with the most that it can hold",
		"a ping whose content is no text"} {
		add(name, "5.5.2, 5.5.3", MustAnswer, 0, raw(ping(name)))
	}
	name := "a ping in the middle of a message"
	add(name, "5.4", MustAnswer, 0, raw(frame(ws.OpText, []byte("{"), nil), ping(name), frame(fin, []byte("}"), nil)))
	for _, code := range []uint16{1000, 1001, 3000, 4999} {
		add(fmt.Sprintf("a close with code %d", code), "5.5.1", MustClose, 0, raw(closing(code, "off duty")))
	}
	add("a close without a code", "5.5.1", MustClose, 0, raw(frame(fin|ws.OpClose, nil, nil)))

	// compression
	fail("compressed bytes that are none", deflate, 1007, frame(fin|0x40|ws.OpText, []byte{0xff, 0xff, 0xff, 0xff},
		nil))
	fail("the mark of compression on a fragment that goes on", deflate, 1002, frame(0x40|ws.OpText,
		packed([]byte("tide")), nil),
		frame(fin|0x40, nil, nil))
	fail("the mark of compression on a ping", deflate, 1002, frame(fin|0x40|ws.OpPing, nil, nil))
	fail("a small message that unfolds to 64 MiB", deflate, 1009, frame(fin|0x40|ws.OpBinary,
		packed(make([]byte, 64<<20)), nil)).May = "a server may take as much as it likes"
	bear("a compressed text", deflate, frame(fin|0x40|ws.OpText, packed([]byte("{\"tide\":1}")), nil))
	bear("a text that is not compressed among others", deflate, frame(fin|0x40|ws.OpText, packed([]byte("{}")), nil),
		text("{}"))
	return all
}
