package recording

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidepull/internal/wire/http1"
)

// maxHAR is the largest HAR file that is read.
const maxHAR = 512 << 20

// har is the part of HTTP Archive 1.2 that is read, with the WebSocket messages
// that browsers add to it.
type har struct {
	Log struct {
		Entries []harEntry `json:"entries"`
	} `json:"log"`
}

type harEntry struct {
	Started  string  `json:"startedDateTime"`
	Time     float64 `json:"time"` // milliseconds
	Request  harHead `json:"request"`
	Response harHead `json:"response"`
	Messages []struct {
		Type   string  `json:"type"` // "send" or "receive"
		Time   float64 `json:"time"` // seconds since 1970
		Opcode int     `json:"opcode"`
		Data   string  `json:"data"` // in base64 if the opcode is not 1
	} `json:"_webSocketMessages"`
}

type harHead struct {
	Method     string        `json:"method"`
	URL        string        `json:"url"`
	Status     int           `json:"status"`
	StatusText string        `json:"statusText"`
	Headers    []http1.Field `json:"headers"`
	PostData   *struct {
		Text string `json:"text"`
	} `json:"postData"`
	Content struct {
		Text     string `json:"text"`
		Encoding string `json:"encoding"`
	} `json:"content"`
}

// ImportHAR makes a recording out of a HAR file, as browsers export it. Each of
// its entries becomes a connection of its own. Only entries for one host are
// taken: that of the first WebSocket, or of the first entry.
func ImportHAR(r io.Reader) (*Recording, error) {
	b, err := io.ReadAll(io.LimitReader(r, maxHAR+1))
	if err != nil {
		return nil, fmt.Errorf("reading the HAR file: %w", err)
	}
	if len(b) > maxHAR {
		return nil, errors.New("the HAR file is larger than 512 MiB")
	}
	var h har
	if err := json.Unmarshal(b, &h); err != nil {
		return nil, fmt.Errorf("the HAR file is no JSON of that kind: %w", err)
	}
	if len(h.Log.Entries) == 0 {
		return nil, errors.New("the HAR file has no entries")
	}
	host := hostOf(h.Log.Entries)
	rec := &Recording{Version: Version, By: "import", Target: host.target}
	start := time.Time{}
	for i, e := range h.Log.Entries {
		u, err := url.Parse(e.Request.URL)
		if err != nil || u.Host != host.name {
			continue
		}
		at, err := time.Parse(time.RFC3339Nano, e.Started)
		if err != nil {
			return nil, fmt.Errorf("entry %d of the HAR file: its time %q cannot be read", i+1, e.Started)
		}
		if start.IsZero() || at.Before(start) {
			start = at
		}
	}
	rec.Made = start.Format(time.RFC3339)
	conn := 0
	for i := range h.Log.Entries {
		e := &h.Log.Entries[i]
		if u, err := url.Parse(e.Request.URL); err == nil && u.Host == host.name {
			conn++
			if err := rec.addHAR(e, conn, start, u); err != nil {
				return nil, fmt.Errorf("entry %d of the HAR file: %w", i+1, err)
			}
		}
	}
	slices.SortStableFunc(rec.Entries, func(a, b Entry) int { return int(min(max(a.At-b.At, -1), 1)) })
	return rec, nil
}

type harHost struct{ name, target string }

func hostOf(entries []harEntry) harHost {
	first := harHost{}
	for _, e := range entries {
		u, err := url.Parse(e.Request.URL)
		if err != nil || u.Host == "" {
			continue
		}
		if u.Scheme == "ws" || u.Scheme == "wss" {
			return harHost{u.Host, u.Scheme + "://" + u.Host + u.EscapedPath()}
		}
		if first.name == "" {
			first = harHost{u.Host, u.Scheme + "://" + u.Host}
		}
	}
	return first
}

func (r *Recording) addHAR(e *harEntry, conn int, start time.Time, u *url.URL) error {
	began, err := time.Parse(time.RFC3339Nano, e.Started)
	if err != nil {
		return err
	}
	at := max(0, began.Sub(start).Microseconds())
	ended := at + int64(max(0, min(e.Time, 1e9))*1000)
	add := func(at int64, e Entry) {
		e.At, e.Conn = max(0, at), conn
		r.Entries = append(r.Entries, e)
	}
	add(at, Entry{What: Open})
	add(at, Entry{What: Head, From: Client, Start: e.Request.Method + " " + u.RequestURI(), Fields: e.Request.Headers})
	if e.Request.PostData != nil && e.Request.PostData.Text != "" {
		add(at, Entry{What: Content, From: Client, Text: e.Request.PostData.Text})
	}
	answered := ended
	if len(e.Messages) > 0 {
		answered = min(ended, int64(e.Messages[0].Time*1e6)-start.UnixMicro())
	}
	if e.Response.Status > 0 {
		add(answered, Entry{What: Head, From: Server,
			Start:  strings.TrimSpace(fmt.Sprintf("%d %s", e.Response.Status, e.Response.StatusText)),
			Fields: e.Response.Headers})
	}
	if c := e.Response.Content; c.Text != "" {
		content := Entry{What: Content, From: Server, Text: c.Text}
		if c.Encoding == "base64" {
			b, err := base64.StdEncoding.DecodeString(c.Text)
			if err != nil {
				return errors.New("its content is no base64")
			}
			content.SetPayload(b)
		}
		add(ended, content)
	}
	last := ended
	for _, m := range e.Messages {
		msg := Entry{What: Message, From: Server, Kind: "text", Text: m.Data}
		if m.Type == "send" {
			msg.From = Client
		}
		if m.Opcode != 1 {
			b, err := base64.StdEncoding.DecodeString(m.Data)
			if err != nil {
				return errors.New("a binary message is no base64")
			}
			msg.Kind = "binary"
			msg.SetPayload(b)
		}
		last = int64(m.Time*1e6) - start.UnixMicro()
		add(last, msg)
	}
	add(max(last, ended), Entry{What: End})
	return nil
}
