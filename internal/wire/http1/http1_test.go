package http1

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
)

// read reads a whole response, handed over in pieces of a size.
func read(t testing.TB, raw []byte, method string, piece int) (h Head, content []byte, whole bool, err error) {
	var held []byte
	var b Body
	var head bool
	for len(raw) > 0 || len(held) > 0 {
		n := min(piece, len(raw))
		held, raw = append(held, raw[:n]...), raw[n:]
		if !head {
			var used int
			if h, used, err = ConsumeResponse(held); err != nil {
				return
			}
			if used == 0 {
				if n == 0 {
					return
				}
				continue
			}
			head, held = true, held[used:]
			if b, err = ResponseBody(&h, method); err != nil {
				return
			}
		}
		for {
			part, used, err := b.Next(held)
			if err != nil {
				return h, content, false, err
			}
			content, held = append(content, part...), held[used:]
			if used == 0 {
				break
			}
		}
		if n == 0 || b.Done() {
			break
		}
	}
	return h, content, head && (b.Done() || b.UntilClose()), nil
}

// TestBody reads responses in pieces of every size as the standard library
// reads them whole.
func TestBody(t *testing.T) {
	long := strings.Repeat("the tide gauge reads 3.2 m; ", 40)
	for _, raw := range []string{
		"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nberth",
		"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n",
		"HTTP/1.1 204 No Content\r\n\r\n",
		"HTTP/1.1 200 OK\r\n\r\nuntil the end",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5;x=y\r\nberth\r\n" +
			fmt.Sprintf("%x\r\n%s\r\n", len(long), long) + "0\r\nTrailer: one\r\n\r\n",
		"HTTP/1.1 301 Moved Permanently\nLocation: /quay\nContent-Length: 2\n\nhi",
	} {
		std, err := http.ReadResponse(bufio.NewReader(strings.NewReader(raw)), &http.Request{Method: "GET"})
		if err != nil {
			t.Fatal(err)
		}
		want, err := io.ReadAll(std.Body)
		if err != nil {
			t.Fatal(err)
		}
		for piece := 1; piece <= len(raw); piece++ {
			h, got, whole, err := read(t, []byte(raw), "GET", piece)
			if err != nil || !whole || !bytes.Equal(got, want) || h.Status != std.StatusCode {
				t.Fatalf("%q in pieces of %d: %d %q %v %v", raw, piece, h.Status, got, whole, err)
			}
		}
	}
	for raw, rule := range map[string]string{
		"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\n":        "two content lengths",
		"HTTP/1.1 200 OK\r\nContent-Length: -5\r\n\r\n":                            "no number",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip\r\n\r\n":                       "not chunked",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n":              "size is no number",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nabc\r\n":        "longer than it says",
		"HTTP/1.1 20 OK\r\n\r\n":                                                   "status line",
		"HTTP/1.1 200 OK\r\nbad field\r\n\r\n":                                     "NAME: VALUE",
		"HTTP/1.1 200 OK\r\nX: " + strings.Repeat("y", maxHead) + "\r\n\r\n":       "longer than 32 KiB",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" + long[:10] + long: "",
	} {
		if _, _, whole, err := read(t, []byte(raw), "GET", len(raw)); rule != "" &&
			(err == nil || !strings.Contains(err.Error(), rule)) || whole {
			t.Errorf("%.60q: %v, want %q", raw, err, rule)
		}
	}
}

// FuzzResponse: whatever comes, it does not matter in which pieces it comes.
func FuzzResponse(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n"), 3)
	f.Add([]byte("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\n\r\n"), 1)
	f.Add([]byte("HTTP/1.0 200\r\nContent-Length: 3\r\n\r\nabc"), 7)
	f.Fuzz(func(t *testing.T, raw []byte, piece int) {
		if piece < 1 || len(raw) > maxHead {
			return
		}
		h1, a, _, err1 := read(t, raw, "GET", len(raw)+1)
		h2, b, _, err2 := read(t, raw, "GET", piece)
		if (err1 == nil) != (err2 == nil) || err1 == nil && (!bytes.Equal(a, b) || h1.Status != h2.Status) {
			t.Fatalf("whole: %q %v; in pieces of %d: %q %v", a, err1, piece, b, err2)
		}
	})
}
