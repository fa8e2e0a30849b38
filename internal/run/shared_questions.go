package run

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/common"
	"tidepull/internal/measure/ledger"
)

// The units of deliveries: what is one piece of evidence.
const (
	byMessage = iota
	byClient
)

// A question is one of a delivery: what it is, in a word, or how much.
type question struct {
	common.Question
	word   func(d delivery) string
	number func(d delivery) float64
}

type questions []question

// find finds what the wrong have in common and the others have not.
func (q questions) find(wrong, others []delivery) (common.Finding, bool) {
	var asked []common.Question
	for i := range q {
		asked = append(asked, q[i].Question)
	}
	return common.Find(asked, q.answers(wrong), q.answers(others))
}

// answers are those to the questions for deliveries.
func (q questions) answers(all []delivery) []common.Case {
	cases := make([]common.Case, 0, len(all))
	for _, d := range all {
		c := common.Case{Words: make([]string, len(q)), Numbers: make([]float64, len(q)),
			Units: []int64{byMessage: int64(d.m.Number), byClient: int64(d.o.Client)}}
		for k := range q {
			if c.Numbers[k] = math.NaN(); q[k].word != nil {
				c.Words[k] = q[k].word(d)
			} else {
				c.Numbers[k] = q[k].number(d)
			}
		}
		cases = append(cases, c)
	}
	return cases
}

// aboutMessage are the questions about a message and who said it.
func (l *looker) aboutMessage() questions {
	return questions{
		is(byMessage, "", func(d delivery) string { return kindWords[d.m.Kind] }),
		is(byMessage, "the sender is ", func(d delivery) string { return l.s.ClientName(d.m.Sender) }),
		is(byMessage, "the sender is of the crew ", func(d delivery) string { return l.crew(d.m.Sender) }),
		is(byMessage, "in ", func(d delivery) string { return l.room(d.m.Room) }),
		is(byMessage, "the sender is at node ", func(d delivery) string { return l.node(d.m.Sender) }),
		l.within("after the sender connected", byMessage, sender, since, (*life).whenOpened),
		l.within("after the sender entered the room", byMessage, sender, since, (*life).whenEntered),
		l.within("after the sender came back", byMessage, sender, since, (*life).whenBack),
		when(),
		sized(),
		has(ledger.BinaryType, "they are binary messages", "they are text messages"),
		has(ledger.BeyondASCII, "they hold characters beyond ASCII", ""),
		has(ledger.Beyond16, "they hold characters above U+FFFF", ""),
		has(ledger.Markup, "they hold < or &", ""),
		has(ledger.Control, "they hold control characters", ""),
		has(ledger.Quotes, "they hold quotation marks", ""),
	}
}

// sized asks how many bytes a message has.
func sized() question {
	return question{Question: common.Question{
		Most:  func(x float64) string { return "of at most " + units.Count(int64(x)) + " bytes" },
		Least: func(x float64) string { return "of " + units.Count(int64(x)) + " bytes or more" },
	}, number: func(d delivery) float64 {
		if d.m.Size == 0 {
			return math.NaN()
		}
		return float64(d.m.Size)
	}}
}

// has asks whether there is something in the text of a message; without words for it, that there is not is not said.
func has(trait ledger.Traits, yes, no string) question {
	const lacking = "they do not"
	return question{Question: common.Question{Word: func(w string) string {
		if w == lacking {
			return ""
		}
		return w
	}}, word: func(d delivery) string {
		switch {
		case d.m.Traits&ledger.Described == 0:
			return ""
		case d.m.Traits&trait != 0:
			return yes
		case no == "":
			return lacking
		}
		return no
	}}
}

// aboutRecipient are the questions about who has it, or should have it.
func (l *looker) aboutRecipient() questions {
	return questions{
		is(byMessage, "the recipient is ", func(d delivery) string {
			if d.m.Sender == d.o.Client {
				return "the sender"
			}
			return "not the sender"
		}),
		is(byMessage, "the recipient is ", func(d delivery) string { return l.s.ClientName(d.o.Client) }),
		is(byClient, "the recipient is of the crew ", func(d delivery) string { return l.crew(d.o.Client) }),
		is(byClient, "the recipient is at node ", func(d delivery) string { return l.node(d.o.Client) }),
		is(byMessage, "sender and recipient are at ", func(d delivery) string {
			a, b := l.node(d.m.Sender), l.node(d.o.Client)
			switch {
			case a == "":
				return ""
			case a == b:
				return "one node"
			}
			return "different nodes"
		}),
		l.within("after the recipient entered the room", byClient, recipient, since, (*life).whenEntered),
		l.within("after the recipient connected", byClient, recipient, since, (*life).whenOpened),
		l.within("after the recipient came back", byClient, recipient, since, (*life).whenBack),
		l.within("before the recipient left the room", byClient, recipient, until, (*life).whenLeft),
		l.within("before the recipient's connection ended", byClient, recipient, until, (*life).whenGone),
	}
}

// is asks what a delivery is, in a word that stands behind others in what is said of it.
func is(unit int, says string, of func(delivery) string) question {
	return question{Question: common.Question{Unit: unit, Word: func(w string) string { return says + w }}, word: of}
}

var kindWords = [ledger.NumKinds]string{ledger.Notice: "they are messages to rooms",
	ledger.Whisper: "they are private messages", ledger.Joined: "they are announcements of who enters",
	ledger.Gone: "they are announcements of who leaves"}

func sender(d delivery) ledger.Client    { return d.m.Sender }
func recipient(d delivery) ledger.Client { return d.o.Client }

// Times of a client's life that have to do with a room.
func (v *life) whenOpened(ledger.Room) []time.Duration    { return v.opened }
func (v *life) whenBack(ledger.Room) []time.Duration      { return v.back }
func (v *life) whenGone(ledger.Room) []time.Duration      { return v.gone }
func (v *life) whenEntered(r ledger.Room) []time.Duration { return v.entered[r] }
func (v *life) whenLeft(r ledger.Room) []time.Duration    { return v.left[r] }

// within asks how near in time to something in a client's life a message was said.
func (l *looker) within(what string, unit int, who func(delivery) ledger.Client,
	far func(times []time.Duration, at time.Duration) float64,
	times func(*life, ledger.Room) []time.Duration) question {

	say := func(x float64) string {
		return fmt.Sprintf("said within %s %s", units.Duration(time.Duration(x*float64(time.Second))), what)
	}
	number := func(d delivery) float64 {
		v := l.lives[who(d)]
		if v == nil {
			return math.NaN()
		}
		return far(times(v, d.m.Room), time.Duration(d.m.Sent))
	}
	return question{Question: common.Question{Unit: unit, Most: say, Round: twoDigits}, number: number}
}

// when asks when a message was said.
func when() question {
	clock := func(x float64) string { return units.Clock(time.Duration(x * float64(time.Second))) }
	return question{Question: common.Question{Most: func(x float64) string { return "said before " + clock(x) },
		Least: func(x float64) string { return "said after " + clock(x) },
		Round: func(x float64, down bool) float64 {
			if down {
				return math.Floor(x)
			}
			return math.Ceil(x)
		}}, number: func(d delivery) float64 { return time.Duration(d.m.Sent).Seconds() }}
}

// crew is the name of a client's crew.
func (l *looker) crew(c ledger.Client) string { return "'" + l.s.Trial.Crews[l.s.CrewOf(c)].Name + "'" }

// room is a room's name; "" if it is none.
func (l *looker) room(r ledger.Room) string {
	if r < 0 || int(r) >= len(l.s.Rooms) || r == ledger.Everyone {
		return ""
	}
	return l.s.Rooms[r]
}

// node is which of the target's nodes a client connects to, from 1; "" if there is one.
func (l *looker) node(c ledger.Client) string {
	n := len(l.s.Trial.Target.Nodes)
	if n < 2 {
		return ""
	}
	return strconv.Itoa(int(c)%n + 1)
}

// twoDigits rounds a number to two digits, up unless it says down.
func twoDigits(x float64, down bool) float64 {
	if x <= 0 {
		return x
	}
	unit := math.Pow(10, math.Floor(math.Log10(x))-1)
	if down {
		return math.Floor(x/unit) * unit
	}
	return math.Ceil(x/unit) * unit
}
