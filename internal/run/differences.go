package run

import (
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine/account"
	"tidepull/internal/measure/change"
	"tidepull/internal/measure/ledger"
)

// DifferenceOf is how a message came otherwise to a client than it was said; nil if that is not known.
func (s *Snapshot) DifferenceOf(number uint64, c ledger.Client) *account.Difference {
	for i := range s.Differences {
		if d := &s.Differences[i]; d.Number == number && d.Client == c {
			return d
		}
	}
	return nil
}

// DifferenceWords says how a message differs: the name of the change, where it begins, and, with both, what stands
// there on both sides.
func DifferenceWords(d *account.Difference, both bool) string {
	text := d.Name
	if d.IsOther {
		text += fmt.Sprintf(", of message %d", d.Of)
	}
	switch {
	case d.Name == change.FurtherOn:
		return text
	case d.Said.Binary != d.Came.Binary: // its parts are not told apart
		return text + fmt.Sprintf(": said '%s', came '%s'", side(&d.Said, 0), side(&d.Came, 0))
	}
	text += fmt.Sprintf("; from byte %s of %s on", units.Count(int64(d.First+1)), units.Count(int64(d.Said.Size)))
	if both {
		text += fmt.Sprintf(": said '%s', came '%s'", side(&d.Said, d.First), side(&d.Came, d.First))
	}
	return text
}

// side is what stands around a byte of a text, with dots if there is more of it.
func side(t *change.Text, at int) string {
	part, in := t.Around(at)
	text := plain.Text(string(part), 0)
	if at > in {
		text = "…" + text
	}
	if at-in+len(part) < t.Size {
		text += "…"
	}
	return text
}

// A DifferenceSummary is one message that came otherwise than it was said.
type DifferenceSummary struct {
	Change  string  `json:"change"` // what the change is called: "HTML-escaped"
	Message uint64  `json:"message"`
	Sender  string  `json:"sender"`
	Client  string  `json:"client"` // that it came to
	Seconds float64 `json:"at_seconds"`
	First   int     `json:"first_byte"` // that differs, from 0
	Said    string  `json:"said"`       // what stands there; bytes that are no UTF-8 are replaced
	Came    string  `json:"came"`
	SaidAll int     `json:"said_bytes"`
	CameAll int     `json:"came_bytes"`
	Other   *uint64 `json:"text_of_message,omitempty"` // what came is the text of this message
}

func (s *Snapshot) differences() []DifferenceSummary {
	all := []DifferenceSummary{}
	for i := range s.Differences {
		d := &s.Differences[i]
		said, _ := d.Said.Around(d.First)
		came, _ := d.Came.Around(d.First)
		sum := DifferenceSummary{Change: d.Name, Message: d.Number, Client: s.ClientName(d.Client),
			Seconds: round(d.At.Seconds()), First: d.First, Said: strings.ToValidUTF8(string(said), "\ufffd"),
			Came: strings.ToValidUTF8(string(came), "\ufffd"), SaidAll: d.Said.Size, CameAll: d.Came.Size}
		if m := s.Message(d.Number); m != nil {
			sum.Sender = s.ClientName(m.Sender)
		}
		if d.IsOther {
			sum.Other = &d.Of
		}
		all = append(all, sum)
	}
	return all
}

// Message gives a message that was kept; nil if it was not.
func (s *Snapshot) Message(number uint64) *ledger.Message {
	for _, list := range [][]ledger.Message{s.Kept, s.Sampled} {
		for i := range list {
			if list[i].Number == number {
				return &list[i]
			}
		}
	}
	return nil
}
