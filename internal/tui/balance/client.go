package balance

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// clientHead says what a client has said and heard, above its life.
func clientHead(sc scene.Scene, id ledger.Client) []string {
	sent, got := uint32(0), uint32(0)
	if int(id) < len(sc.Run.Sent) {
		sent, got = sc.Run.Sent[id], sc.Run.Got[id]
	}
	return []string{
		fmt.Sprintf("  of crew %s: has sent %s messages and received %s marked ones",
			plain.Text(sc.Run.Trial.Crews[sc.Run.CrewOf(id)].Name, 30), units.Count(int64(sent)),
			units.Count(int64(got))),
		"",
	}
}

// life lists what happened to a client, and what became of the kept messages
// at it, in order of time.
func life(sc scene.Scene, id ledger.Client) []row {
	type moment struct {
		at time.Duration
		row
	}
	var moments []moment
	for i, e := range sc.Run.Events {
		if e.Client == id {
			moments = append(moments, moment{e.At, row{id: fmt.Sprint("e", i), text: clock(e.At) + "  " + event(sc,
				e)}})
		}
	}
	for i := range sc.Run.Kept {
		msg := &sc.Run.Kept[i]
		for _, o := range msg.Outcomes {
			if o.Client == id {
				from := plain.Text(sc.Run.ClientName(msg.Sender), 20)
				if room := msg.Room; room > ledger.Everyone && int(room) < len(sc.Run.Rooms) {
					from += " in " + plain.Text(sc.Run.Rooms[room], 20)
				}
				text := fmt.Sprintf("%s  message %-8d %s %s", at(msg), msg.Number, look.Fit("from "+from, 34),
					outcome(sc, msg, o))
				moments = append(moments, moment{time.Duration(msg.Due),
					row{fmt.Sprint("m", msg.Number, o.Fate), text, &place{what: message, key: int(msg.Number)}}})
			}
		}
	}
	slices.SortStableFunc(moments, func(a, b moment) int { return cmp.Compare(a.at, b.at) })
	rows := make([]row, len(moments))
	for i, m := range moments {
		rows[i] = m.row
	}
	return rows
}

// event puts an event of a client's life in words.
func event(sc scene.Scene, e logbook.Event) string {
	text := e.What.String()
	if e.Room >= 0 && int(e.Room) < len(sc.Run.Rooms) {
		text += " " + plain.Text(sc.Run.Rooms[e.Room], 30)
	}
	if e.Detail != "" {
		text += ": " + plain.Text(e.Detail, 400)
	}
	switch e.What {
	case logbook.Broke, logbook.Refused:
		return sc.Palette.Draw(look.Danger, text)
	case logbook.Denied, logbook.Missed, logbook.Failed:
		return sc.Palette.Draw(look.Beware, text)
	}
	return text
}
