package export

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/report/chart"
)

// lanes sets clients side by side, those asked for or those with something
// wrong.
func (r *Request) lanes() (sheet, drawing) {
	var from, to time.Duration
	if r.To > r.From {
		from, to = time.Duration(r.From)*time.Second, time.Duration(r.To)*time.Second
	}
	clients, focus := r.Clients, r.Focus
	if focus == nil {
		for _, odd := range lane.Odds(r.Run.Lanes) {
			if odd.At >= from && (to == 0 || odd.At < to) {
				focus = &odd
				break
			}
		}
	}
	if len(clients) == 0 {
		clients, _ = r.Run.Around(focus)
	}
	rows, left := r.stretch(lane.Arrange(r.Run.Lanes, clients, lane.Whole, from, to), focus)
	s := sheet{Title: "What happened between the clients", Unit: "s and ms where a name ends so",
		Header: []string{"at_s", "client", "what", "message", "from", "room", "fate", "latency_ms", "says"}}
	d := &chart.Lanes{Title: s.Title, Notes: append(r.notes(), "a dot: said; an arrow: arrived, with its latency; "+
		"an arrow that begins beside its lane: from a client that is not shown; a cross: went wrong, or lost on "+
		"the way")}
	if left > 0 {
		d.Notes = append(d.Notes, fmt.Sprintf("%s more things happened between these clients in the window; --all "+
			"draws them", units.Count(int64(left))))
	}
	for _, c := range clients[:min(len(clients), lane.MaxLanes)] {
		d.Names = append(d.Names, plain.Text(r.Run.ClientName(c), 30))
	}
	for i := range rows {
		row := &rows[i]
		s.Rows = append(s.Rows, r.laneRow(row))
		if i > 0 {
			if gap := row.Rec.At - rows[i-1].Rec.At; gap > 400*time.Millisecond {
				d.Rows = append(d.Rows, chart.LaneRow{Time: "~ " + units.Duration(gap.Round(time.Millisecond)),
					Mark: chart.Gap, Lines: linesOf(&rows[i-1])})
			}
		}
		d.Rows = append(d.Rows, r.drawnRow(row))
	}
	if !r.All && len(d.Rows) > chart.RowsOnPage { // with the gaps between them
		d.Rows = d.Rows[:chart.RowsOnPage]
	}
	return s, d
}

// maxRows bounds the rows of a drawing that is to have all of them.
const maxRows = 40 * chart.RowsOnPage

// stretch keeps the rows around the focus that one page holds, or all up to a
// bound, and tells how many were left out.
func (r *Request) stretch(rows []lane.Row, focus *lane.Record) ([]lane.Row, int) {
	most, at := chart.RowsOnPage, 0
	if r.All {
		most = maxRows
	}
	if focus != nil {
		at, _ = slices.BinarySearchFunc(rows, focus.At,
			func(row lane.Row, t time.Duration) int { return cmp.Compare(row.Rec.At, t) })
	}
	from := min(max(0, at-most/2), max(0, len(rows)-most))
	if r.All {
		from = 0
	}
	to := min(len(rows), from+most)
	return rows[from:to], len(rows) - (to - from)
}

func linesOf(row *lane.Row) []chart.Line {
	var lines []chart.Line
	for _, s := range row.States {
		lines = append(lines, chart.Line(s))
	}
	return lines
}

func (r *Request) roomName(room ledger.Room) string {
	if room < 0 || int(room) >= len(r.Run.Rooms) {
		return ""
	}
	return plain.Text(r.Run.Rooms[room], 30)
}

func (r *Request) says(rec *lane.Record) string {
	switch rec.What {
	case lane.Said, lane.Got, lane.Heard, lane.Lost:
	default:
		return ""
	}
	for i := range r.Run.Bodies {
		if r.Run.Bodies[i].Number == rec.Number {
			return plain.Text(string(r.Run.Bodies[i].Text), 400)
		}
	}
	return ""
}

func (r *Request) laneRow(row *lane.Row) []any {
	rec := &row.Rec
	cells := []any{rec.At.Seconds(), r.Run.ClientName(rec.Client), rec.What.String(), nil, nil, r.roomName(rec.Room),
		nil, nil, nil}
	switch rec.What {
	case lane.Said, lane.Got, lane.Lost:
		cells[3] = rec.Number
	}
	if rec.What == lane.Got || rec.What == lane.Lost {
		cells[4] = r.Run.ClientName(rec.Peer)
	}
	if rec.What == lane.Got {
		cells[6], cells[7] = rec.Fate.String(), ms(rec.Took)
	}
	if says := r.says(rec); says != "" {
		cells[8] = says
	}
	return cells
}

// drawnRow is a row as it is drawn.
func (r *Request) drawnRow(row *lane.Row) chart.LaneRow {
	rec := &row.Rec
	d := chart.LaneRow{Time: fmt.Sprintf("%.6f s", rec.At.Seconds()), Lane: row.Lane, From: row.From,
		Lines: linesOf(row), Mark: chart.Ring, Text: rec.What.String()}
	peer := plain.Text(r.Run.ClientName(rec.Peer), 24)
	check := ""
	if int(rec.Number) < len(r.Run.Trial.Checks) {
		check = plain.Text(r.Run.Trial.Checks[rec.Number].Name, 40)
	}
	switch rec.What {
	case lane.Said:
		d.Mark, d.Text = chart.Dot, fmt.Sprintf("#%d in %s", rec.Number, r.roomName(rec.Room))
		if rec.Kind == ledger.Whisper {
			d.Text = fmt.Sprintf("#%d to %s", rec.Number, peer)
		}
	case lane.Got:
		d.Mark, d.Text = chart.Stroke, fmt.Sprintf("#%d %s", rec.Number, units.Duration(rec.Took))
		if row.From < 0 {
			d.Text += " from " + peer
		}
		if rec.Fate != ledger.Delivered {
			d.Text, d.Style = rec.Fate.String()+" "+d.Text, chart.Dashed
		}
		if rec.Fate == ledger.Stray {
			d.From = -1
		}
	case lane.Lost:
		d.Mark, d.Style, d.Text = chart.Loss, chart.Dotted, fmt.Sprintf("lost #%d", rec.Number)
	case lane.Beat:
		d.Mark, d.Text = chart.Bar, "beat"
	case lane.Ignored:
		d.Mark, d.Text = chart.Bar, "beat, not answered"
	case lane.Entered, lane.Left:
		d.Text += " " + r.roomName(rec.Room)
	case lane.Held:
		d.Text = "passed: " + check
	case lane.Failed:
		d.Mark, d.Text = chart.Cross, "failed: "+check
	case lane.Broke, lane.Refused, lane.Denied:
		d.Mark = chart.Cross
	case lane.Answered:
		d.Text = fmt.Sprintf("answered %d", rec.Number)
	}
	return d
}
