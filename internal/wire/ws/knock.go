package ws

import (
	"fmt"
	"strings"
)

// A Knock is an opening handshake that is not the usual one: the server must refuse it, or agree
// all the same.
type Knock struct {
	Name    string
	Section string // of RFC 6455, if no other is named
	Agree   bool   // it must be agreed to; else it must be refused, by any answer but 101 or none
	Status  int    // that says why; 0: none is named
	May     string // what leaves a server open to do otherwise; "": nothing
	// Make makes it of a handshake as it should be.
	Make func(decent []byte) []byte
}

// Knocks are all of them, in the order of the standard.
var Knocks = knocks()

// KnockNamed gives one by its name; nil if there is none.
func KnockNamed(name string) *Knock {
	for i := range Knocks {
		if Knocks[i].Name == name {
			return &Knocks[i]
		}
	}
	return nil
}

// fields makes a handshake with other fields: each is "NAME: VALUE", or "-NAME" to leave one
// out.
func fields(changes ...string) func(decent []byte) []byte {
	return func(decent []byte) []byte {
		lines := strings.Split(strings.TrimSuffix(string(decent), "\r\n\r\n"), "\r\n")
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

// first changes the request line.
func first(change func(line string) string) func(decent []byte) []byte {
	return func(decent []byte) []byte {
		line, rest, _ := strings.Cut(string(decent), "\r\n")
		return []byte(change(line) + "\r\n" + rest)
	}
}

func knocks() (all []Knock) {
	refuse := func(name, section string, status int, f func([]byte) []byte) *Knock {
		all = append(all, Knock{Name: name, Section: section, Status: status, Make: f})
		return &all[len(all)-1]
	}
	agree := func(name, section string, f func([]byte) []byte) *Knock {
		all = append(all, Knock{Name: name, Section: section, Agree: true, Make: f})
		return &all[len(all)-1]
	}
	refuse("a version that nobody speaks", "4.4", 426, fields("Sec-WebSocket-Version: 12"))
	refuse("no version", "4.2.1", 0, fields("-Sec-WebSocket-Version"))
	refuse("a version that is no number", "4.2.1", 0, fields("Sec-WebSocket-Version: thirteen"))
	refuse("no key", "4.2.1", 0, fields("-Sec-WebSocket-Key"))
	refuse("two keys", "11.3.1", 0, fields("+Sec-WebSocket-Key: dGlkZSB0YWJsZXMgMTIzNA=="))
	refuse("a key of three bytes", "4.2.1", 0, fields("Sec-WebSocket-Key: YWJj"))
	refuse("a key that is not base64", "4.2.1", 0, fields("Sec-WebSocket-Key: ????????????????????????"))
	refuse("POST instead of GET", "4.2.1", 0, first(func(l string) string {
		return "POST" + strings.TrimPrefix(l, "GET")
	}))
	refuse("HTTP/1.0", "4.2.1", 0, first(func(l string) string {
		return strings.Replace(l, "HTTP/1.1", "HTTP/1.0", 1)
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
	refuse("a head without end", "RFC 9110 5.4", 0, fields("+X-Tide: "+strings.Repeat("high ", 60_000)))
	agree("Upgrade in another case", "4.2.1", fields("Upgrade: WebSocket"))
	agree("names of fields in another case", "RFC 9110 5.1", fields("-Upgrade", "uPGRADE: websocket"))
	agree("Connection: keep-alive, Upgrade", "4.2.1", fields("Connection: keep-alive, Upgrade"))
	agree("an extension that nobody knows", "9.1", fields("Sec-WebSocket-Extensions: tide-pull-conform; level=5"))
	agree("a subprotocol that nobody knows", "4.2.2", fields("Sec-WebSocket-Protocol: tide-pull.conform"))
	agree("a hundred more fields", "RFC 9110 5.4", func(decent []byte) []byte {
		var more []string
		for i := range 100 {
			more = append(more, fmt.Sprintf("+X-Tide-%d: high", i))
		}
		return fields(more...)(decent)
	}).May = "a server may take no more than it wishes, and answer 4xx"
	return all
}
