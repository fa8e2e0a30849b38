package run

import (
	"fmt"
	"math"
	"sort"
	"strconv"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/common"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/lives"
	"tidepull/internal/measure/logbook"
)

// The units of deliveries: what is one piece of evidence.
const (
	byMessage = iota
	byClient
	bySecond
)

func (d delivery) units() []int64 {
	return []int64{byMessage: int64(d.m.Number), byClient: int64(d.o.Client), bySecond: int64(d.time())}
}

func (d delivery) time() float64 { return time.Duration(d.m.Sent).Seconds() }

// An askable is what questions can be about: it is one of several units, and was at some time, in seconds.
type askable interface {
	units() []int64
	time() float64
}

// A question is one of a delivery, or of something else that happened: what it is, in a word, or how much.
type question[T askable] struct {
	common.Question
	word   func(T) string
	number func(T) float64
}

type questions[T askable] []question[T]

// find finds what the wrong have in common and the others have not.
func (q questions[T]) find(wrong, others []T) (common.Finding, bool) {
	var asked []common.Question
	for i := range q {
		asked = append(asked, q[i].Question)
	}
	return common.Find(asked, q.answers(wrong), q.answers(others))
}

// answers are those to the questions for all of some.
func (q questions[T]) answers(all []T) []common.Case {
	cases := make([]common.Case, 0, len(all))
	for _, of := range all {
		c := common.Case{Words: make([]string, len(q)), Numbers: make([]float64, len(q)), Units: of.units(),
			Time: of.time()}
		for k := range q {
			if c.Numbers[k] = math.NaN(); q[k].word != nil {
				c.Words[k] = q[k].word(of)
			} else {
				c.Numbers[k] = q[k].number(of)
			}
		}
		cases = append(cases, c)
	}
	return cases
}

// aboutMessage are the questions about a message and who said it.
func (l *looker) aboutMessage() questions[delivery] {
	return questions[delivery]{
		is(byMessage, "", func(d delivery) string { return kindWords[d.m.Kind] }),
		is(byMessage, "the sender is ", func(d delivery) string { return l.s.ClientName(d.m.Sender) }),
		is(byMessage, "the sender is of the crew ", func(d delivery) string { return l.crew(d.m.Sender) }),
		is(byMessage, "in ", func(d delivery) string { return l.room(d.m.Room) }),
		is(byMessage, "the sender is at node ", func(d delivery) string { return l.node(d.m.Sender) }),
		l.within("after the sender connected", byMessage, sender, lives.Since, whenOpened),
		l.within("after the sender entered the room", byMessage, sender, lives.Since, whenEntered),
		l.within("after the sender came back", byMessage, sender, lives.Since, whenBack),
		is(byMessage, "", func(d delivery) string {
			switch d.m.Nth {
			case 0:
				return ""
			case 1:
				return "they are the sender's first message of a connection"
			}
			return lacking
		}),
		when[delivery]("said"),
		atOnce[delivery](l, "said in a second with %s messages or more", said),
		atOnce[delivery](l, "said in a second in which %s clients or more entered", arrivals),
		atOnce[delivery](l, "said while %s clients or more were connected", open),
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
func sized() question[delivery] {
	return question[delivery]{Question: common.Question{
		Most:  func(x float64) string { return "of at most " + units.Count(int64(x)) + " bytes" },
		Least: func(x float64) string { return "of " + units.Count(int64(x)) + " bytes or more" },
	}, number: func(d delivery) float64 {
		if d.m.Size == 0 {
			return math.NaN()
		}
		return float64(d.m.Size)
	}}
}

// lacking is an answer that is not worth saying: it only stands for another.
const lacking = "they do not"

// has asks whether there is something in the text of a message; without words for it, that there is not is not said.
func has(trait ledger.Traits, yes, no string) question[delivery] {
	return is(byMessage, "", func(d delivery) string {
		switch {
		case d.m.Traits&ledger.Described == 0:
			return ""
		case d.m.Traits&trait != 0:
			return yes
		case no == "":
			return lacking
		}
		return no
	})
}

// aboutRecipient are the questions about who has it, or should have it.
func (l *looker) aboutRecipient() questions[delivery] {
	return questions[delivery]{
		is(byMessage, "the recipient is ", func(d delivery) string {
			if d.m.Sender == d.o.Client {
				return "the sender"
			}
			return "not the sender"
		}),
		is(byMessage, "the recipient is ", func(d delivery) string { return l.s.ClientName(d.o.Client) }),
		is(byClient, "the recipient came by ", func(d delivery) string { return l.route(d.o.Client, d.m.Sent) }),
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
		l.within("after the recipient entered the room", byClient, recipient, lives.Since, whenEntered),
		l.within("after the recipient connected", byClient, recipient, lives.Since, whenOpened),
		l.within("after the recipient came back", byClient, recipient, lives.Since, whenBack),
		l.within("before the recipient left the room", byClient, recipient, lives.Until, whenLeft),
		l.within("before the recipient's connection ended", byClient, recipient, lives.Until, whenGone),
	}
}

// is asks what a delivery is, in a word that stands behind others in what is said of it.
func is[T askable](unit int, says string, of func(T) string) question[T] {
	return question[T]{Question: common.Question{Unit: unit, Word: func(w string) string {
		if w == lacking {
			return ""
		}
		return says + w
	}}, word: of}
}

var kindWords = [ledger.NumKinds]string{ledger.Notice: "they are messages to rooms",
	ledger.Whisper: "they are private messages", ledger.Joined: "they are announcements of who enters",
	ledger.Gone: "they are announcements of who leaves"}

func sender(d delivery) ledger.Client    { return d.m.Sender }
func recipient(d delivery) ledger.Client { return d.o.Client }

// Times of a client's life that have to do with a room.
func whenOpened(v *lives.Life, _ ledger.Room) []time.Duration     { return v.Opened }
func whenBack(v *lives.Life, _ ledger.Room) []time.Duration       { return v.Back }
func whenGone(v *lives.Life, _ ledger.Room) []time.Duration       { return v.Gone }
func whenEntered(v *lives.Life, r ledger.Room) []time.Duration    { return v.Entered[r] }
func whenEnteredAny(v *lives.Life, _ ledger.Room) []time.Duration { return v.EnteredAny }
func whenLeft(v *lives.Life, r ledger.Room) []time.Duration       { return v.Left[r] }

// within asks how near in time to something in a client's life a message was said.
func (l *looker) within(what string, unit int, who func(delivery) ledger.Client,
	far func(times []time.Duration, at time.Duration) float64,
	times func(*lives.Life, ledger.Room) []time.Duration) question[delivery] {

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
	return question[delivery]{Question: common.Question{Unit: unit, Most: say, Round: twoDigits}, number: number}
}

// when asks when something was.
func when[T askable](says string) question[T] {
	clock := func(x float64) string { return units.Clock(time.Duration(x * float64(time.Second))) }
	return question[T]{Question: common.Question{Most: func(x float64) string { return says + " before " + clock(x) },
		Least: func(x float64) string { return says + " after " + clock(x) }, OfTime: true,
		Round: func(x float64, down bool) float64 {
			if down {
				return math.Floor(x)
			}
			return math.Ceil(x)
		}}, number: T.time}
}

// atOnce asks how much went on in the second: by what is counted, and in which words.
func atOnce[T askable](l *looker, says string, count func(*logbook.Entry) int64) question[T] {
	return question[T]{Question: common.Question{Unit: bySecond, OfTime: true,
		Least: func(x float64) string { return fmt.Sprintf(says, units.Count(int64(x))) }, Round: twoDigits},
		number: func(of T) float64 {
			at := of.time()
			e := l.s.Entries.Of(int(at))
			if e == nil {
				return math.NaN()
			}
			return float64(count(e))
		}}
}

func said(e *logbook.Entry) int64     { return e.Each(e.Counts.Sent) }
func arrivals(e *logbook.Entry) int64 { return e.Each(e.Counts.Entries) }
func open(e *logbook.Entry) int64     { return int64(e.Gauges.Open) }

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

// route is the name of the route that a client was on; "" if there is one, or it was on none.
func (l *looker) route(c ledger.Client, at mono.Time) string {
	v := l.lives[c]
	if len(l.s.Trial.Target.Routes) < 2 || v == nil {
		return ""
	}
	i := sort.Search(len(v.Routes), func(i int) bool { return v.Routes[i].At > time.Duration(at) })
	if i == 0 {
		return ""
	}
	return v.Routes[i-1].Name
}

// twoDigits rounds a number to two digits, up unless it says down.
func twoDigits(x float64, down bool) float64 { return toDigits(x, 2, down) }

// threeDigits does so to three.
func threeDigits(x float64, down bool) float64 { return toDigits(x, 3, down) }

func toDigits(x float64, n int, down bool) float64 {
	if x <= 0 {
		return x
	}
	unit := math.Pow(10, math.Floor(math.Log10(x))-float64(n-1))
	if down {
		return math.Floor(x/unit) * unit
	}
	return math.Ceil(x/unit) * unit
}
