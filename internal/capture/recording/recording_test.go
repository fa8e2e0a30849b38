package recording

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"tidepull/internal/wire/ws"
)

func conversation(masked bool) []byte {
	b := []byte("GET /live HTTP/1.1\r\nHost: x\r\n\r\n")
	b = ws.AppendMasked(b, ws.OpText, []byte(`{"kind":"name"}`), [4]byte{1, 2, 3, 4})
	b = ws.AppendMasked(b, ws.OpBinary, []byte{0, 255, 1}, [4]byte{})
	return ws.AppendMasked(b, ws.OpClose, ws.AppendClosePayload(nil, 1000, "done"), [4]byte{5})
}

var agreement = []byte("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n")

// listen feeds both directions to a Tap, cut into pieces of a size.
func listen(client, server []byte, piece int) (all []Entry) {
	t := NewTap(1, func(e Entry) { all = append(all, e) })
	for len(client) > 0 || len(server) > 0 {
		if n := min(piece, len(client)); n > 0 {
			t.Feed(false, client[:n], time.Second)
			client = client[n:]
		}
		if n := min(piece, len(server)); n > 0 {
			t.Feed(true, server[:n], time.Second)
			server = server[n:]
		}
	}
	t.End(2*time.Second, "")
	return all
}

// FuzzTap: whatever two sides say, no byte that they said as data is lost or
// made up, and a recording of it can be read back.
func FuzzTap(f *testing.F) {
	f.Add(conversation(true), agreement, 1000)
	f.Add(conversation(true), agreement, 1)
	f.Add([]byte("name Alder\r\n"), []byte("welcome\r\n"), 3)
	f.Add([]byte("GET / HTTP/1.1\r\n\r\n"), []byte("HTTP/1.1 200 OK\r\nContent-Type: "+
		"text/event-stream\r\n\r\ndata: a\n\n"), 5)
	f.Add([]byte("POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n"),
		[]byte("HTTP/1.1 204 No\r\n\r\n"), 2)
	f.Fuzz(func(t *testing.T, client, server []byte, piece int) {
		if piece < 1 {
			return
		}
		all := listen(client, server, piece)
		var file bytes.Buffer
		if err := (&Recording{Entries: all}).Write(&file); err != nil {
			t.Fatal(err)
		}
		back, err := Read(&file)
		if err != nil || len(back.Entries) != len(all) {
			t.Fatalf("%d entries, read back %v, %v", len(all), back, err)
		}
		for i := range all {
			if !bytes.Equal(all[i].Payload(), back.Entries[i].Payload()) || all[i].What != back.Entries[i].What {
				t.Fatalf("entry %d is %+v, read back %+v", i, all[i], back.Entries[i])
			}
		}
		if len(client) > 0 && !likeHTTP(client, known[:]...) && len(server) > 0 && !likeHTTP(server, "HTTP/1.") {
			var heard []byte
			for _, e := range all {
				if e.From == Client {
					heard = append(heard, e.Payload()...)
				}
			}
			if !bytes.Equal(heard, client) {
				t.Fatalf("the client said %q, heard %q", client, heard)
			}
		}
	})
}

// TestPieces: in which pieces the bytes come does not matter.
func TestPieces(t *testing.T) {
	want := listen(conversation(true), agreement, 1<<20)
	if len(want) != 6 {
		t.Fatalf("%+v", want)
	}
	if e := want[4]; e.What != Close || e.Code != 1000 || e.Text != "done" || e.From != Client {
		t.Errorf("the close is %+v", e)
	}
	a, _ := json.Marshal(want)
	for piece := 1; piece < 120; piece++ {
		got := listen(conversation(true), agreement, piece)
		if b, _ := json.Marshal(got); piece > len(agreement) && !bytes.Equal(a, b) || len(got) != len(want) {
			t.Fatalf("in pieces of %d: %s\nwant %s", piece, b, a)
		}
	}
}

// FuzzRead: a recording is read or refused with its line; what was read and
// written again reads the same.
func FuzzRead(f *testing.F) {
	f.Add("{\"tidepull_recording\":1}\n{\"at_us\":1,\"conn\":1,\"what\":\"data\",\"from\":\"client\",\"bytes\":" +
		"\"AP8=\"}\n")
	f.Add("{\"tidepull_recording\":1,\"target\":\"ws://x\"}\n{\"at_us\":1,\"conn\":1,\"what\":\"message\",\"from" +
		"\":\"server\",\"text\":\"x\"}\n{\"at_us\":")
	f.Add("{\"tidepull_recording\":9}")
	f.Fuzz(func(t *testing.T, s string) {
		rec, err := Read(strings.NewReader(s))
		if err != nil {
			return
		}
		var again bytes.Buffer
		if err := rec.Write(&again); err != nil {
			t.Fatal(err)
		}
		back, err := Read(&again)
		if err != nil || len(back.Entries) != len(rec.Entries) {
			t.Fatalf("%v: %d entries, then %d", err, len(rec.Entries), len(back.Entries))
		}
	})
}

// FuzzHAR: a HAR file is taken or refused.
func FuzzHAR(f *testing.F) {
	if b, err := os.ReadFile("testdata/board.har"); err == nil && len(b) < 1<<20 {
		f.Add(b)
	}
	f.Add([]byte(`{"log":{"entries":[{"startedDateTime":"2026-01-01T00:00:00Z","time":5,"request":{"method":"GET` +
		`","url":"ws://127.0.0.1/live"},"response":{"status":101},"_webSocketMessages":[{"type":"send","time":17` +
		`67225600.1,"opcode":2,"data":"AP8="}]}]}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		rec, err := ImportHAR(bytes.NewReader(b))
		if err != nil {
			return
		}
		for i, e := range rec.Entries {
			if wrong := e.check(); wrong != "" || i > 0 && e.At < rec.Entries[i-1].At {
				t.Fatalf("entry %d: %s, %+v", i, wrong, e)
			}
		}
	})
}

// TestWrongLines: an error tells the line, and what was expected there.
func TestWrongLines(t *testing.T) {
	const head = "{\"tidepull_recording\":1}\n"
	for in, want := range map[string]string{
		"":                         "line 1 of the recording: the recording is empty",
		"{}\n":                     `line 1 of the recording: the first line is not {"tidepull_recording":1,...}`,
		`{"tidepull_recording":7}`: "it is of version 7",
		head + `{"what":"tide"}`:   `line 2 of the recording: there is no entry of the kind "tide"`,
		head + "x\n" + head:        "line 2 of the recording: invalid character",
		head + `{"what":"open"}`:   "a connection's number is 1 or more",
		head + `{"what":"open","conn":1,"from":"me"}`: `"from" is "client" or "server"`,
	} {
		if _, err := Read(strings.NewReader(in)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", in, err, want)
		}
	}
}

// TestBrowser imports what a browser exported of a visit to the stand-in.
func TestBrowser(t *testing.T) {
	f, err := os.Open("testdata/board.har")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	rec, err := ImportHAR(f)
	if err != nil {
		t.Fatal(err)
	}
	sent, received, binary, heads := 0, 0, 0, 0
	for _, e := range rec.Entries {
		switch {
		case e.What == Head:
			heads++
		case e.What == Message && e.Kind == "binary":
			binary++
			if !bytes.Equal(e.Payload(), []byte{0, 255, 16, 32}) {
				t.Errorf("the binary message is % x", e.Payload())
			}
		case e.What == Message && e.From == Client:
			sent++
		case e.What == Message:
			received++
		}
	}
	if sent != 4 || received != 6 || binary != 2 || heads != 4 || !strings.HasPrefix(rec.Target, "ws://127.0.0.1:") {
		t.Errorf("%d sent, %d received, %d binary, %d heads, of %s", sent, received, binary, heads, rec.Target)
	}
	for want, from := range map[string]string{`"text":"gate turning, né ⚓, at `: Client, `"kind":"presence"`: Server} {
		found := false
		for _, e := range rec.Entries {
			found = found || e.From == from && strings.Contains(e.Text, want)
		}
		if !found {
			t.Errorf("the %s does not say %s", from, want)
		}
	}
}
