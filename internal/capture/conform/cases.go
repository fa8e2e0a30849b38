package conform

import (
	"bytes"
	"fmt"
	"strings"
	"sync"

	"tidepull/internal/wire/http1"
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

// decent is the handshake as it should be.
func (k *knock) decent(more ...http1.Field) []byte {
	t := k.target
	if len(t.Protocols) > 0 {
		more = append(more, http1.Field{Name: "Sec-WebSocket-Protocol", Value: strings.Join(t.Protocols, ", ")})
	}
	return ws.AppendRequest(nil, t.Host, t.Path, k.key, append(more, t.Fields...)...)
}

// foreignProtocol is the case that offers a subprotocol which nobody knows.
const foreignProtocol = "a subprotocol that nobody knows"

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
	fail := func(b *ws.Abuse) {
		made := sync.OnceValue(b.Bytes) // some take long to make
		add(b.Name, b.Section, MustFail, b.Code, func(*knock) []byte { return made() }).May = b.May
	}
	bear := func(name, section, plain string, parts ...[]byte) {
		add(name, section, MustBear, 0, raw(parts...)).plain = plain
	}

	for i := range ws.Knocks {
		b := &ws.Knocks[i]
		d := MustRefuse
		if b.Agree {
			d = MustAgree
		}
		add(b.Name, b.Section, d, uint16(b.Status), func(k *knock) []byte { return b.Make(k.decent()) }).May = b.May
	}

	// what must not be sent once the connection is open
	for i := range ws.Abuses {
		b := &ws.Abuses[i]
		if !b.Packed {
			fail(b)
		}
	}
	add("something after a close", "5.5.1", MustClose, 0, raw(closing(1000, ""), text("one more thing")))

	// what must be borne
	bear("an empty text", "5.6", "tide", text(""))
	bear("a pong that nobody asked for", "5.5.3", "", frame(fin|ws.OpPong, []byte("tide"), nil))
	bear("a text in three fragments", "5.4", `{"tide":1}`, frame(ws.OpText, []byte("{\"ti"), nil),
		frame(0, []byte("de\":"), nil),
		frame(fin, []byte("1}"), nil))
	bear("empty fragments", "5.4", "{}", frame(ws.OpText, nil, nil), frame(0, nil, nil), frame(fin, []byte("{}"), nil))
	bear("a character that is cut by fragments", "8.1", "{\"a\":\"\u20ac\"}",
		frame(ws.OpText, []byte("{\"a\":\"\xe2"), nil),
		frame(0, []byte("\x82"), nil), frame(fin, []byte("\xac\"}"), nil))
	bear("several frames at once", "5.2", "{}", text("{}"), frame(fin|ws.OpPong, nil, nil), text("{}"))
	for _, name := range []string{"a ping without content", "a ping with the most that it can hold",
		"a ping whose content is no text"} {
		add(name, "5.5.2, 5.5.3", MustAnswer, 0, raw(ping(name)))
	}
	name := "a ping in the middle of a message"
	add(name, "5.4", MustAnswer, 0, raw(frame(ws.OpText, []byte("{"), nil), ping(name),
		frame(fin, []byte("}"), nil))).plain = "{}"
	for _, code := range []uint16{1000, 1001, 3000, 4999} {
		add(fmt.Sprintf("a close with code %d", code), "5.5.1", MustClose, 0, raw(closing(code, "off duty")))
	}
	add("a close without a code", "5.5.1", MustClose, 0, raw(frame(fin|ws.OpClose, nil, nil)))

	// compression
	for i := range ws.Abuses {
		if b := &ws.Abuses[i]; b.Packed {
			fail(b)
		}
	}
	bear("a compressed text", deflate, `{"tide":1}`, frame(fin|0x40|ws.OpText, packed([]byte("{\"tide\":1}")), nil))
	bear("a text that is not compressed among others", deflate, "{}",
		frame(fin|0x40|ws.OpText, packed([]byte("{}")), nil),
		text("{}"))
	return all
}
