package probe

import (
	"cmp"
	"fmt"
	"time"

	"tidepull/internal/capture/recording"
	"tidepull/internal/wire/http1"
)

// Recording makes a recording of what lines did: each is a connection of it.
func Recording(t Target, events []Event) *recording.Recording {
	rec := &recording.Recording{Version: recording.Version, By: "probe", Target: t.URL}
	if len(events) == 0 {
		return rec
	}
	u, over, err := parseURL(t.URL)
	if err != nil { // then nothing was done
		return rec
	}
	carried := over != "" || u.Scheme == "udp"
	if carried {
		rec.Target, rec.Over, rec.Post, rec.Every = u.String(), cmp.Or(over, "udp"), t.Post, t.Every
	}
	start := events[0].At
	rec.Made = start.Format(time.RFC3339)
	add := func(e *Event, entry recording.Entry) {
		entry.At, entry.Conn = max(0, e.At.Sub(start).Microseconds()), max(1, e.Line)
		rec.Entries = append(rec.Entries, entry)
	}
	for i := range events {
		e := &events[i]
		switch e.What {
		case Opened:
			if carried {
				// It stands there as if it had been a WebSocket: one connection with messages.
				add(e, recording.Entry{What: recording.Open})
				add(e, recording.Entry{What: recording.Head, From: recording.Client, Start: "GET " + u.RequestURI(),
					Fields: append([]http1.Field{{Name: "Upgrade", Value: "websocket"}}, t.Fields...)})
				add(e, recording.Entry{What: recording.Head, From: recording.Server, Start: "101"})
			} else if u.Scheme == "tcp" || u.Scheme == "tls" {
				add(e, recording.Entry{What: recording.Open})
			}
		case Request:
			if carried {
				continue
			}
			add(e, recording.Entry{What: recording.Open})
			add(e, recording.Entry{What: recording.Head, From: recording.Client, Start: e.Head.Method + " " +
				e.Head.Path, Fields: e.Head.Fields})
		case Answer:
			if carried {
				continue
			}
			add(e, recording.Entry{What: recording.Head, From: recording.Server,
				Start: fmt.Sprintf("%d %s", e.Head.Status, e.Head.Reason), Fields: e.Head.Fields})
		case In, Out:
			entry := recording.Entry{From: recording.Server}
			if e.What == Out {
				entry.From = recording.Client
			}
			switch {
			case e.Message != nil && e.Op == "line":
				entry.What = recording.Data
				entry.SetPayload(append(append([]byte(nil), e.Message...), "\r\n"...))
			case e.Message != nil && e.Op == "bytes":
				entry.What = recording.Data
				entry.SetPayload(e.Message)
			case e.Message != nil && e.Op == "message":
				entry.What = recording.Data
				entry.SetPayload(t.framing().Append(nil, e.Message))
			case e.Message != nil:
				entry.What, entry.Kind = recording.Message, "text"
				if e.Binary {
					entry.Kind = "binary"
				}
				entry.SetPayload(e.Message)
			case e.Op == "ping", e.Op == "pong":
				entry.What = e.Op
				entry.SetPayload(e.Payload)
			case e.Op == "close":
				entry.What, entry.Code = recording.Close, e.Code
				entry.SetPayload(e.Payload)
			default:
				continue // a fragment: its message comes with the last one
			}
			add(e, entry)
		case Ended:
			entry := recording.Entry{What: recording.End, Why: e.Why}
			if e.By == "server" || e.By == "network" { // what ends it on this side is the end of the probing
				entry.From = recording.Server
			}
			add(e, entry)
		}
	}
	return rec
}
