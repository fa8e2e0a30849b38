package account

import (
	"bytes"
	"time"

	"tidepull/internal/measure/change"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
)

// A Difference is between what was said and what came of it at one client.
type Difference struct {
	Name       string // of the change, from package change
	Number     uint64 // of the message
	Client     ledger.Client
	At         time.Duration // when it came
	Said, Came change.Text
	First      int    // the first byte that differs
	Of         uint64 // what came is the text of this other message, if IsOther
	IsOther    bool
}

// Bounds on the differences that are kept: of each name, and of each of one message.
const (
	keptOfName    = 20
	keptOfMessage = 3
	maxNames      = 60 // a name may hold a number: where a text is cut
)

// differing is what is known of messages that come otherwise than they were said.
type differing struct {
	said  []meant // by number & (len-1); nil: nothing is compared
	came  cameAs
	names map[string]int
	of    map[uint64]int // by message
	news  []Difference
}

// meant is the text of a message as it must come; its memory is used again for a later message.
type meant struct {
	number uint64
	text   change.Text
}

type cameAs struct {
	number uint64
	client ledger.Client
	text   change.Text
}

// maxMeant bounds the messages whose texts are known, at up to 4 KiB each.
const maxMeant = 1 << 12

func (d *differing) means(number uint64, text []byte, f *fact.Fact) {
	if d.said == nil {
		d.said = make([]meant, maxMeant)
		d.names, d.of = map[string]int{}, map[uint64]int{}
		d.came.client = -1
	}
	m := &d.said[number&(maxMeant-1)]
	m.number = number
	hold(&m.text, text, f)
}

// shows notes what comes with the fact that follows.
func (d *differing) shows(text []byte, f *fact.Fact) {
	if d.said == nil {
		return
	}
	d.came.number, d.came.client = f.Number, f.Client
	hold(&d.came.text, text, f)
}

func hold(t *change.Text, text []byte, f *fact.Fact) {
	text = text[:min(len(text), lane.MaxBody)]
	t.Head, t.Size, t.Binary = append(t.Head[:0], text...), int(f.Size), f.Is(fact.Binary)
}

// altered keeps how a message that came differs from what was said, if that was shown.
func (d *differing) altered(in ledger.Arrival, rec *lane.Record) {
	number := in.Mark.Number
	if d.said == nil || d.came.number != number || d.came.client != in.To {
		return
	}
	d.came.client = -1
	m := &d.said[number&(maxMeant-1)]
	if m.number != number || d.of[number] >= keptOfMessage {
		return
	}
	diff := Difference{Name: change.Name(m.text, d.came.text), Number: number, Client: in.To, At: rec.At}
	if d.names[diff.Name] < keptOfName {
		if diff.Of, diff.IsOther = d.textOf(&d.came.text, number); diff.IsOther {
			diff.Name = "the text of another message came"
		}
	}
	if n, known := d.names[diff.Name]; n >= keptOfName || !known && len(d.names) >= maxNames {
		return
	}
	d.names[diff.Name]++
	d.of[number]++
	diff.Said, diff.Came, diff.First = clone(m.text), clone(d.came.text), change.First(m.text, d.came.text)
	d.news = append(d.news, diff)
}

// textOf finds another message with a text, of those that are not too short to be the same by chance.
func (d *differing) textOf(t *change.Text, but uint64) (number uint64, found bool) {
	const least = 8
	if len(t.Head) < least {
		return 0, false
	}
	for i := range d.said {
		m := &d.said[i]
		if m.number != but && m.text.Size == t.Size && bytes.Equal(m.text.Head, t.Head) {
			if found { // it may be either's
				return 0, false
			}
			number, found = m.number, true
		}
	}
	return number, found
}

func clone(t change.Text) change.Text {
	t.Head = bytes.Clone(t.Head)
	return t
}

func (d *differing) take() []Difference {
	news := d.news
	d.news = nil
	return news
}
