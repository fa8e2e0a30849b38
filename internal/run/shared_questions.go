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
	byDelivery
	numUnits
)

// An asked is one question of a delivery: what it is for words, or how much.
type asked struct {
	question common.Question
	word     func(d delivery) string
	number   func(d delivery) float64
}

// questions are those that are asked, for common.Find; rows gives the answers.
func (l *looker) questions(all []asked) (questions []common.Question) {
	l.asked = all
	for i := range all {
		questions = append(questions, all[i].question)
	}
	return questions
}

// rows answers the questions for deliveries.
func (l *looker) rows(all []delivery) []common.Case {
	cases := make([]common.Case, 0, len(all))
	for i, d := range all {
		c := common.Case{Words: make([]string, len(l.asked)), Numbers: make([]float64, len(l.asked)),
			Units: make([]int64, numUnits)}
		c.Units[byMessage], c.Units[byClient], c.Units[byDelivery] = int64(d.m.Number), int64(d.o.Client), int64(i)
		for k, a := range l.asked {
			if c.Numbers[k] = math.NaN(); a.word != nil {
				c.Words[k] = a.word(d)
			} else {
				c.Numbers[k] = a.number(d)
			}
		}
		cases = append(cases, c)
	}
	return cases
}

// aboutMessage are the questions about a message and who said it.
func (l *looker) aboutMessage() []asked {
	s := l.s
	return []asked{
		{question: common.Question{Word: func(w string) string { return kindWords[w] }},
			word: func(d delivery) string { return d.m.Kind.String() }},
		{question: common.Question{Word: func(w string) string { return "the sender is " + w }},
			word: func(d delivery) string { return s.ClientName(d.m.Sender) }},
		{question: common.Question{Word: func(w string) string { return "the sender is of the crew '" + w + "'" }},
			word: func(d delivery) string { return s.Trial.Crews[s.CrewOf(d.m.Sender)].Name }},
		{question: common.Question{Word: func(w string) string { return "in " + w }},
			word: func(d delivery) string { return l.room(d.m.Room) }},
		{question: common.Question{Word: func(w string) string { return "the sender is at node " + w }},
			word: func(d delivery) string { return l.node(d.m.Sender) }},
		l.within("after the sender connected", byMessage, func(v *life, d delivery) float64 {
			return since(v.opened, time.Duration(d.m.Sent))
		}, sender),
		l.within("after the sender entered the room", byMessage, func(v *life, d delivery) float64 {
			return since(v.entered[d.m.Room], time.Duration(d.m.Sent))
		}, sender),
		l.within("after the sender came back", byMessage, func(v *life, d delivery) float64 {
			return since(v.back, time.Duration(d.m.Sent))
		}, sender),
		l.when(),
	}
}

// aboutRecipient are the questions about who has it, or should have it.
func (l *looker) aboutRecipient() []asked {
	s := l.s
	return []asked{
		{question: common.Question{Word: func(w string) string { return w }}, word: func(d delivery) string {
			if d.m.Sender == d.o.Client {
				return "the recipient is the sender"
			}
			return "the recipient is not the sender"
		}},
		{question: common.Question{Word: func(w string) string { return "the recipient is " + w }},
			word: func(d delivery) string { return s.ClientName(d.o.Client) }},
		{question: common.Question{Unit: byClient,
			Word: func(w string) string { return "the recipient is of the crew '" + w + "'" }},
			word: func(d delivery) string { return s.Trial.Crews[s.CrewOf(d.o.Client)].Name }},
		{question: common.Question{Unit: byClient,
			Word: func(w string) string { return "the recipient is at node " + w }},
			word: func(d delivery) string { return l.node(d.o.Client) }},
		{question: common.Question{Word: func(w string) string { return w }}, word: func(d delivery) string {
			a, b := l.node(d.m.Sender), l.node(d.o.Client)
			switch {
			case a == "":
				return ""
			case a == b:
				return "sender and recipient are at one node"
			}
			return "sender and recipient are at different nodes"
		}},
		l.within("after the recipient entered the room", byClient, func(v *life, d delivery) float64 {
			return since(v.entered[d.m.Room], time.Duration(d.m.Sent))
		}, recipient),
		l.within("after the recipient connected", byClient, func(v *life, d delivery) float64 {
			return since(v.opened, time.Duration(d.m.Sent))
		}, recipient),
		l.within("after the recipient came back", byClient, func(v *life, d delivery) float64 {
			return since(v.back, time.Duration(d.m.Sent))
		}, recipient),
		l.within("before the recipient left the room", byClient, func(v *life, d delivery) float64 {
			return until(v.left[d.m.Room], time.Duration(d.m.Sent))
		}, recipient),
		l.within("before the recipient's connection ended", byClient, func(v *life, d delivery) float64 {
			return until(v.gone, time.Duration(d.m.Sent))
		}, recipient),
	}
}

var kindWords = map[string]string{"notice": "they are messages to rooms", "whisper": "they are private messages",
	"joined": "they are announcements of who enters", "gone": "they are announcements of who leaves"}

func sender(d delivery) ledger.Client    { return d.m.Sender }
func recipient(d delivery) ledger.Client { return d.o.Client }

// within asks how near in time to something in a client's life a message was said.
func (l *looker) within(what string, unit int, of func(*life, delivery) float64,
	who func(delivery) ledger.Client) asked {
	say := func(x float64) string {
		return fmt.Sprintf("said within %s %s", units.Duration(time.Duration(x*float64(time.Second))), what)
	}
	return asked{question: common.Question{Unit: unit, Most: say, Round: twoDigits}, number: func(d delivery) float64 {
		v := l.lives[who(d)]
		if v == nil {
			return math.NaN()
		}
		return of(v, d)
	}}
}

// when asks when a message was said.
func (l *looker) when() asked {
	clock := func(x float64) string { return units.Clock(time.Duration(x * float64(time.Second))) }
	return asked{question: common.Question{Most: func(x float64) string { return "said before " + clock(x) },
		Least: func(x float64) string { return "said after " + clock(x) },
		Round: func(x float64, down bool) float64 {
			if down {
				return math.Floor(x)
			}
			return math.Ceil(x)
		}}, number: func(d delivery) float64 { return time.Duration(d.m.Sent).Seconds() }}
}

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
