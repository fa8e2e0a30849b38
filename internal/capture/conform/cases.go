package conform

import (
	"bytes"
	"fmt"
	"strings"

	"tidepull/internal/wire/ws"
)

// deflate is the section of cases that need compression to be agreed on.
const deflate = "RFC 7692 7.2"

var frame, packed = ws.ByHand, ws.PackByHand

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

	// what must not be sent once the connection is open
	for i := range ws.Abuses {
		b := &ws.Abuses[i]
		if !b.Packed {
			fail(b.Name, b.Section, b.Code, b.Bytes).May = b.May
		}
	}
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
	for i := range ws.Abuses {
		if b := &ws.Abuses[i]; b.Packed {
			fail(b.Name, b.Section, b.Code, b.Bytes).May = b.May
		}
	}
	bear("a compressed text", deflate, frame(fin|0x40|ws.OpText, packed([]byte("{\"tide\":1}")), nil))
	bear("a text that is not compressed among others", deflate, frame(fin|0x40|ws.OpText, packed([]byte("{}")), nil),
		text("{}"))
	return all
}
