package balance

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// messageHead says what a message was, what it said, how far it came and what went on meanwhile, above its recipients.
func messageHead(sc scene.Scene, msg *ledger.Message) []string {
	what := msg.Kind.String()
	if msg.Nth > 0 {
		what = fmt.Sprintf("%s, the %s of its sender's connection,", what, ordinal(msg.Nth))
	}
	size := ""
	if msg.Size > 0 {
		size = ", " + units.Plural(msg.Size, "byte")
	}
	lines := []string{
		fmt.Sprintf("  a %s by %s in %s%s, due at %s, sent %s later", what,
			plain.Text(sc.Run.ClientName(msg.Sender), 30), plain.Text(sc.Run.Rooms[msg.Room], 30), size,
			strings.TrimSpace(at(msg)), units.Duration(msg.Sent.Sub(msg.Due))),
		fmt.Sprintf("  owed to %d, %d have it, %d of them late; lost at %d", msg.Owed, msg.Reached, msg.Late, msg.Lost),
	}
	for i := range lines {
		lines[i] = look.Fit(lines[i], sc.Width)
	}
	for _, l := range []string{says(sc, msg), meanwhile(sc, msg), neighbours(sc, msg)} {
		if l != "" {
			lines = append(lines, look.Fit("  "+l, sc.Width))
		}
	}
	if room := min(10, sc.Height-len(lines)-8); room >= 4 {
		lines = append(lines, strip(sc, msg, room)...)
	}
	return append(lines, "")
}

// says quotes a message, if what it said is kept.
func says(sc scene.Scene, msg *ledger.Message) string {
	if !msg.Kind.Said() {
		return ""
	}
	for i := range sc.Run.Bodies {
		if b := &sc.Run.Bodies[i]; b.Number == msg.Number {
			text := "says: " + plain.Text(string(b.Text), 1000)
			if b.Cut {
				text += "…"
			}
			return text
		}
	}
	return sc.Palette.Draw(look.Faint, "what it says is not kept")
}

// around is how long before a message and after the last of it what went on is told.
const around = 250 * time.Millisecond

// meanwhile says what else went on while a message was on its way.
func meanwhile(sc scene.Scene, msg *ledger.Message) string {
	from, to := time.Duration(msg.Due)-around, time.Duration(msg.Sent)
	for i := range msg.Outcomes {
		to = max(to, time.Duration(msg.Due)+msg.Outcomes[i].Latency)
	}
	to += around
	counts := map[logbook.EventKind]int{}
	for i := range sc.Run.Events {
		if e := &sc.Run.Events[i]; e.At >= from && e.At <= to {
			counts[e.What]++
		}
	}
	var all []string
	for _, k := range []logbook.EventKind{logbook.Opened, logbook.Entered, logbook.Left, logbook.Closed, logbook.Broke,
		logbook.CameBack, logbook.Evicted, logbook.Refused, logbook.Denied, logbook.Failed, logbook.Missed} {
		if n := counts[k]; n > 0 {
			all = append(all, fmt.Sprintf("%s %d", k, n))
		}
	}
	for _, h := range sc.Run.Happened {
		if h.From <= to && (h.To == 0 || h.To >= from) {
			all = append(all, fmt.Sprintf("fault %q", plain.Text(h.Name, 40)))
		}
	}
	if e := sc.Run.Entries.Of(int(msg.Due / 1e9)); e != nil {
		during := "second"
		if e.Merged > 0 {
			during = "minute"
		}
		all = append(all, fmt.Sprintf("%s messages in that %s, %s clients connected", units.Count(e.Counts.Sent),
			during, units.Count(int64(e.Gauges.Open))))
	}
	if len(all) == 0 {
		return ""
	}
	return fmt.Sprintf("from %s before it to as long after the last had it: %s", units.Duration(around),
		strings.Join(all, ", "))
}

// neighbours says which messages that are kept stand before and behind one, of its sender and in its room.
func neighbours(sc scene.Scene, msg *ledger.Message) string {
	type said struct {
		number uint64
		sender ledger.Client
		room   ledger.Room
		at     time.Duration
	}
	var all []said
	for _, list := range [][]ledger.Message{sc.Run.Kept, sc.Run.Sampled} {
		for i := range list {
			if m := &list[i]; m.Kind.Said() && m.Number != msg.Number {
				all = append(all, said{m.Number, m.Sender, m.Room, time.Duration(m.Sent)})
			}
		}
	}
	for i := range sc.Run.Lanes {
		if r := &sc.Run.Lanes[i]; r.What == lane.Said && r.Number != msg.Number {
			all = append(all, said{r.Number, r.Client, r.Room, r.At})
		}
	}
	next := func(is func(said) bool, later bool) string {
		best, found := said{}, false
		for _, m := range all {
			after := m.at > time.Duration(msg.Sent)
			if is(m) && after == later && (!found || later == (m.at < best.at) && m.at != best.at) {
				best, found = m, true
			}
		}
		if !found {
			return "none is kept " + map[bool]string{true: "after it", false: "before it"}[later]
		}
		return fmt.Sprintf("message %d %s %s", best.number, units.Duration((best.at - time.Duration(msg.Sent)).Abs()),
			map[bool]string{true: "after it", false: "before it"}[later])
	}
	ofSender := func(m said) bool { return m.sender == msg.Sender }
	inRoom := func(m said) bool { return m.room == msg.Room }
	return fmt.Sprintf("of its sender: %s, %s; in its room: %s, %s", next(ofSender, false), next(ofSender, true),
		next(inRoom, false), next(inRoom, true))
}

// strip draws who had a message when: the first at the top, the last below, each crew with a sign of its own.
func strip(sc scene.Scene, msg *ledger.Message, height int) []string {
	p := sc.Palette
	var had []ledger.Outcome
	for _, o := range msg.Outcomes {
		if o.Latency > 0 && o.Fate.Settles() {
			had = append(had, o)
		}
	}
	if len(had) < 2 {
		return nil
	}
	slices.SortFunc(had, func(a, b ledger.Outcome) int { return cmp.Compare(a.Latency, b.Latency) })
	height = min(height, len(had)+1)
	d := look.NewDots(min(sc.Width-look.Gutter, 120), height-1)
	last := had[len(had)-1].Latency
	for rank, o := range had {
		x := int(float64(o.Latency) / float64(last) * float64(d.Width-2))
		d.Char(x, rank*d.Height/len(had), crewSigns[sc.Run.CrewOf(o.Client)%len(crewSigns)], look.Water)
	}
	var names []string
	for i, c := range sc.Run.Trial.Crews {
		if i < len(crewSigns) && slices.ContainsFunc(had,
			func(o ledger.Outcome) bool { return sc.Run.CrewOf(o.Client) == i }) {
			names = append(names, string(crewSigns[i])+" "+plain.Text(c.Name, 20))
		}
	}
	lines := []string{"", p.Draw(look.Faint, fmt.Sprintf("  who had it when, from the first to the last of %d: %s",
		len(had), strings.Join(names, ", ")))}
	lines = append(lines, d.Scaled(p, "first", "", "last")...)
	ruler := look.NewDots(d.Width, 1)
	for k := range 5 {
		x := k * (d.Width - 1) / 4
		text := units.Duration(last * time.Duration(k) / 4)
		ruler.Text(max(0, min(x, d.Width-len(text))), 0, text, look.Faint)
	}
	return append(lines, look.Right("", look.Gutter)+ruler.Lines(p)[0])
}

// crewSigns are those of the crews in a strip, by number.
var crewSigns = []rune{'•', '◦', '▪', '▫', '◆', '◇', '▴', '▵'}

func ordinal(n int) string {
	switch {
	case n%100/10 == 1:
	case n%10 == 1:
		return fmt.Sprintf("%sst", units.Count(int64(n)))
	case n%10 == 2:
		return fmt.Sprintf("%snd", units.Count(int64(n)))
	case n%10 == 3:
		return fmt.Sprintf("%srd", units.Count(int64(n)))
	}
	return fmt.Sprintf("%sth", units.Count(int64(n)))
}

// why says what became of a message at one recipient: what came instead, if it came otherwise than it was said.
func why(sc scene.Scene, msg *ledger.Message, o ledger.Outcome) string {
	if o.Fate == ledger.Altered {
		if d := sc.Run.DifferenceOf(msg.Number, o.Client); d != nil {
			return plain.Text(run.DifferenceWords(d, true), 0)
		}
	}
	return o.WhyOf(msg.Kind)
}

// outcomes are a message's recipients.
func outcomes(sc scene.Scene, number uint64) []row {
	msg := sc.Run.Message(number)
	if msg == nil {
		return nil
	}
	var rows []row
	for _, o := range ranked(msg) {
		rows = append(rows, row{fmt.Sprint(o.Client, o.Fate), look.Fit(plain.Text(sc.Run.ClientName(o.Client), 22),
			24) + outcome(sc, msg, o),
			&place{what: client, key: int(o.Client)}})
	}
	return rows
}

// ranked are a message's outcomes: the worst first, and within one fate who had it first.
func ranked(msg *ledger.Message) []ledger.Outcome {
	ordered := slices.Clone(msg.Outcomes)
	slices.SortStableFunc(ordered, func(a, b ledger.Outcome) int {
		return cmp.Or(cmp.Compare(a.Fate.Severity(), b.Fate.Severity()), cmp.Compare(a.Latency, b.Latency))
	})
	return ordered
}

// outcome says what became of a message at one recipient, and why.
func outcome(sc scene.Scene, msg *ledger.Message, o ledger.Outcome) string {
	ink := scene.InkOf(o.Fate)
	latency := fmt.Sprintf("%.3f ms", float64(o.Latency)/1e6) // exact: the order of recipients is the point
	if o.Fate == ledger.Delivered && o.Latency == 0 {
		latency = "piled up" // its recipient read slowly on purpose
	}
	if o.Fate == ledger.Lost || o.Fate == ledger.Excused || o.Fate == ledger.CaughtUp {
		latency = ""
	}
	return look.Fit(sc.Palette.Draw(ink, o.Fate.String()), 11) + look.Right(latency, 14) + "  " +
		sc.Palette.Draw(look.Faint, why(sc, msg, o))
}

// whole says in full, below the recipients, what became of the message at the one at hand.
func whole(sc scene.Scene, here place) []string {
	msg := sc.Run.Message(uint64(here.key))
	if msg == nil || sc.Height < 20 {
		return nil
	}
	all := ranked(msg)
	if len(all) == 0 {
		return nil
	}
	rows := outcomes(sc, msg.Number)
	o := all[here.in(rows)]
	text := plain.Text(sc.Run.ClientName(o.Client), 60) + ": " + o.Fate.String() + "; " + why(sc, msg, o)
	lines := strings.Split(ansi.Wrap(text, max(20, sc.Width-4), ""), "\n")
	lines = lines[:min(len(lines), 4)]
	for i := range lines {
		lines[i] = "  " + lines[i]
	}
	return append([]string{sc.Palette.Draw(look.Faint, strings.Repeat("─", sc.Width))}, lines...)
}
