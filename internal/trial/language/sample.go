package language

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
)

// A sample is one message as somebody wrote it down, with placeholders where a client's name, a room, or a text stands:
// JSON, JSON behind digits, or a text.
type sample struct {
	text  string // as it was given
	front string // digits in front of the JSON
	tree  *node  // nil: it is a text
}

// A node is a value of JSON; fields keep their order.
type node struct {
	names []string // of an object, one for each of items; nil: it is none
	items []*node
	list  bool
	text  *string // of a string
	raw   string  // of a number, true, false and null
}

// The placeholders.
const (
	forName  = "<name>"
	forRoom  = "<room>"
	forText  = "<text>"
	forTo    = "<to>"
	forCount = "<count>"
)

var inFront = regexp.MustCompile(`^\d*`)

// bareCount is a placeholder that stands where a number does, and so not in quotation marks.
var bareCount = regexp.MustCompile(`([:,\[]\s*)<count>`)

func readSample(text string) sample {
	s := sample{text: strings.TrimSpace(text)}
	front := inFront.FindString(s.text)
	rest := bareCount.ReplaceAllString(s.text[len(front):], `$1"<count>"`)
	if !strings.HasPrefix(rest, "{") && !strings.HasPrefix(rest, "[") {
		return s
	}
	d := json.NewDecoder(strings.NewReader(rest))
	d.UseNumber()
	if tree, err := readNode(d); err == nil {
		if _, err := d.Token(); err == io.EOF {
			s.front, s.tree = front, tree
		}
	}
	return s
}

func readNode(d *json.Decoder) (*node, error) {
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch t := t.(type) {
	case json.Delim:
		n := &node{list: t == '['}
		if t == '{' {
			n.names = []string{}
		}
		for d.More() {
			if !n.list {
				name, err := d.Token()
				if err != nil {
					return nil, err
				}
				n.names = append(n.names, fmt.Sprint(name))
			}
			item, err := readNode(d)
			if err != nil {
				return nil, err
			}
			n.items = append(n.items, item)
		}
		_, err := d.Token()
		return n, err
	case string:
		return &node{text: &t}, nil
	case nil:
		return &node{raw: "null"}, nil
	default:
		return &node{raw: fmt.Sprint(t)}, nil
	}
}

var identifier = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_-]*$`)

// each calls f with every value that holds no others, and where it stands, as the trial language writes that.
func (n *node) each(at string, f func(at, name string, leaf *node)) {
	n.walk(at, "", f)
}

func (n *node) walk(at, name string, f func(at, name string, leaf *node)) {
	if n.names == nil && !n.list {
		f(at, name, n)
		return
	}
	for i, item := range n.items {
		switch {
		case n.list:
			item.walk(fmt.Sprintf("%s[%d]", at, i), fmt.Sprint(i), f)
		case identifier.MatchString(n.names[i]) && !strings.Contains(n.names[i], "-"):
			item.walk(at+"."+n.names[i], n.names[i], f)
		default:
			item.walk(at+"["+Quote(n.names[i])+"]", n.names[i], f)
		}
	}
}

// is reports whether a value is one placeholder, and nothing else.
func (n *node) is(placeholder string) bool { return n.text != nil && *n.text == placeholder }

// filled are the placeholders with what stands for them in a template, within a text and alone.
type filled struct{ within, alone *strings.Replacer }

func fill(payload string) filled {
	within := []string{forName, "${name}", forRoom, "${room}", forTo, "${to}", forText, payload}
	return filled{strings.NewReplacer(within...), strings.NewReplacer(forName, "name", forRoom, "room", forTo, "to",
		forText, strings.TrimSuffix(strings.TrimPrefix(payload, "${"), "}"))}
}

// body writes a sample as what a client sends: JSON as an object, what is behind digits and any other as a text.
func (s *sample) body(payload string) string {
	with := fill(payload)
	if s.tree == nil || s.front != "" {
		return with.within.Replace(Quote(s.text))
	}
	var b bytes.Buffer
	s.tree.write(&b, with)
	return b.String()
}

func (n *node) write(b *bytes.Buffer, with filled) {
	switch {
	case n.text != nil && slices.Contains([]string{forName, forRoom, forTo}, *n.text), n.is(forText) &&
		with.alone.Replace(forText) == "payload":
		b.WriteString(with.alone.Replace(*n.text))
	case n.text != nil:
		b.WriteString(with.within.Replace(Quote(*n.text)))
	case n.names == nil && !n.list:
		b.WriteString(n.raw)
	default:
		ends := map[bool]string{true: "[]", false: "{}"}[n.list]
		b.WriteByte(ends[0])
		for i, item := range n.items {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteByte(' ')
			if !n.list {
				name := n.names[i]
				if !identifier.MatchString(name) {
					name = Quote(name)
				}
				b.WriteString(name + " = ")
			}
			item.write(b, with)
		}
		b.WriteByte(' ')
		b.WriteByte(ends[1])
	}
}

// kindNames are those of the fields in which servers usually say what a message is.
var kindNames = []string{"kind", "type", "event", "op", "action", "cmd", "command", "method", "do", "did", "t", "0"}

// recognised makes the condition that recognises messages like the sample: what says of which kind it is, or, if
// nothing does, the first text in it that stays the same; and with room, that it is about the client's room.
func (s *sample) recognised(room bool) string {
	if s.tree == nil {
		return s.recognisedText(room)
	}
	if s.front != "" && !s.tree.list { // the digits alone say what it is
		return fmt.Sprintf("starts(text, %s)", Quote(s.front+"{"))
	}
	var kinds, rest, rooms []string
	s.tree.each("msg", func(at, name string, leaf *node) {
		switch {
		case leaf.is(forRoom):
			rooms = append(rooms, at+" == room")
		case leaf.text == nil || strings.ContainsAny(*leaf.text, "<>"):
		case slices.Contains(kindNames, name):
			kinds = append(kinds, at+" == "+Quote(*leaf.text))
		default:
			rest = append(rest, at+" == "+Quote(*leaf.text))
		}
	})
	if len(kinds) == 0 { // what says of which kind it is comes first, most of the time
		kinds = rest[:min(len(rest), 1)]
	}
	if room {
		kinds = append(kinds, rooms...)
	}
	return strings.Join(kinds, " && ")
}

// placed gives where a placeholder stands alone in the sample, as an expression; "" if it does not.
func (s *sample) placed(placeholder string) (at string) {
	if s.tree == nil {
		if !strings.Contains(s.text, placeholder) {
			return ""
		}
		return fmt.Sprintf("match(text, %s, 1)", Quote(s.pattern(placeholder)))
	}
	s.tree.each("msg", func(where, _ string, leaf *node) {
		if leaf.is(placeholder) && at == "" {
			at = where
		}
	})
	return at
}

// seqNames are those of the fields in which servers usually number the messages of a room.
var seqNames = []string{"seq", "sequence", "number", "no", "index", "offset", "nr"}

// numbered gives where the number of the message stands; "" if nothing says that it does.
func (s *sample) numbered() (at string) {
	if s.tree == nil {
		return ""
	}
	whole := regexp.MustCompile(`^\d+$`)
	s.tree.each("msg", func(where, name string, leaf *node) {
		if at == "" && whole.MatchString(leaf.raw) && slices.Contains(seqNames, strings.ToLower(name)) {
			at = where
		}
	})
	return at
}

var placeholders = regexp.MustCompile(`<(?:name|room|text|to|count)>|\d+`)

// pattern is a regular expression for messages like a text; what a placeholder stands for is its group.
func (s *sample) pattern(of string) string {
	var b strings.Builder
	b.WriteByte('^')
	last := 0
	for _, at := range placeholders.FindAllStringIndex(s.text, -1) {
		b.WriteString(regexp.QuoteMeta(s.text[last:at[0]]))
		part, open, end := s.text[at[0]:at[1]], "", ""
		if part == of {
			open, end = "(", ")"
		}
		switch part {
		case forText:
			part = ".*"
		case forName, forRoom, forTo:
			part = `\S+`
		default:
			part = `\d+`
		}
		b.WriteString(open + part + end)
		last = at[1]
	}
	b.WriteString(regexp.QuoteMeta(s.text[last:]) + "$")
	return b.String()
}

// recognisedText recognises a text by the word that it begins with, or as a whole.
func (s *sample) recognisedText(room bool) string {
	if s.text == "" {
		return ""
	}
	if room && strings.Contains(s.text, forRoom) {
		return s.placed(forRoom) + " == room"
	}
	begins, _, varies := strings.Cut(s.text, "<")
	if !varies {
		return "text == " + Quote(s.text)
	}
	if begins == "" {
		first := placeholders.FindString(s.text)
		if first == s.text { // nothing of it stays the same
			return ""
		}
		return s.placed(first) + " != null"
	}
	return fmt.Sprintf("substr(text, 0, %d) == %s", len(begins), Quote(begins))
}

// NamesKind reports whether a field of a message, or the first item of a list ("0"), usually says of which kind it is.
func NamesKind(field string) bool { return slices.Contains(kindNames, field) }
