package probe

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
)

// Lines puts an event into words: a head line, and lines that belong to it, all
// safe to show.
func Lines(e *Event) (head string, rest []string) {
	detail := plain.Text(e.Detail, 0)
	switch e.What {
	case Phase:
		head = fmt.Sprintf("%-12s %9s  %s", e.Phase, units.Duration(e.Took), detail)
	case Request:
		head = fmt.Sprintf("asked: %s %s", plain.Text(e.Head.Method, 20), plain.Text(e.Head.Path, 200))
		rest = fieldsOf(e)
	case Answer:
		head = fmt.Sprintf("answered: %d %s", e.Head.Status, plain.Text(e.Head.Reason, 80))
		rest = fieldsOf(e)
	case Refused:
		head = "REFUSED: " + plain.Text(e.Why, 0)
		for _, t := range e.Try {
			rest = append(rest, "try: "+plain.Text(t, 0))
		}
	case Opened:
		head = "open, " + detail
	case Unsent:
		head = "NOT SENT: " + plain.Text(e.Why, 0)
	case Ended:
		head = "end: " + plain.Text(e.Why, 0)
		if e.By != "refused" {
			head += " (by " + e.By + ")"
		}
	default:
		return frameLines(e, detail)
	}
	return head, rest
}

func fieldsOf(e *Event) (lines []string) {
	for _, f := range e.Head.Fields {
		lines = append(lines, plain.Text(f.Name, 80)+": "+plain.Text(f.Value, 0))
	}
	return lines
}

func frameLines(e *Event, detail string) (head string, rest []string) {
	way := "<-"
	if e.What == Out {
		way = "->"
	}
	head = fmt.Sprintf("%s %s", way, e.Op)
	switch {
	case e.Op == "close" && e.Code != 0:
		head += fmt.Sprintf(" %d, %s", e.Code, detail)
	case e.Op == "pong" && e.Trip > 0:
		head += ", round trip " + units.Duration(e.Trip)
	case e.Op == "unfinished":
		head += ", " + detail
	case !e.Last:
		head += ", a fragment"
	case e.Op == "continuation":
		head += ", the last fragment"
	}
	head += fmt.Sprintf("  %d B", e.Size)
	if e.Why != "" {
		rest = append(rest, "WRONG: "+plain.Text(e.Why, 0))
	}
	if len(e.Payload) > 0 && e.Op == "unfinished" && utf8.Valid(e.Payload) { // both: what is lacking may not show
		rest = append(rest, PayloadLines(e.Payload, false)...)
		return head, append(rest, PayloadLines(e.Payload, true)...)
	}
	if len(e.Payload) > 0 {
		rest = append(rest, PayloadLines(e.Payload, e.Binary || e.Op == "binary" || e.Op == "bytes")...)
	}
	return head, rest
}

// maxShown bounds the lines of one payload.
const maxShown = 200

// PayloadLines shows a payload: JSON spread over lines, text, or bytes in
// hexadecimal digits beside their characters.
func PayloadLines(b []byte, binary bool) (lines []string) {
	if t := bytes.TrimSpace(b); !binary && len(t) > 0 && (t[0] == '{' || t[0] == '[') {
		var out bytes.Buffer
		if json.Indent(&out, t, "", "  ") == nil {
			return cut(strings.Split(out.String(), "\n"))
		}
	}
	if !binary && utf8.Valid(b) {
		return cut(strings.Split(string(b), "\n"))
	}
	return cut(strings.Split(strings.TrimRight(hex.Dump(b[:min(len(b), 16*maxShown)]), "\n"), "\n"))
}

func cut(lines []string) []string {
	if len(lines) > maxShown {
		lines = append(lines[:maxShown:maxShown], fmt.Sprintf("... and %d lines more", len(lines)-maxShown))
	}
	for i := range lines {
		lines[i] = plain.Text(lines[i], 0)
	}
	return lines
}
