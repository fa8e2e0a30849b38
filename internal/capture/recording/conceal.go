package recording

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"tidepull/internal/base/secret"
	"tidepull/internal/wire/http1"
)

// A Concealer puts placeholders in the place of credentials: in Authorization
// and cookies, in fields of JSON and forms and in queries that are named like
// passwords and tokens. One value has one placeholder wherever it stands, so that
// what a server gives and a client uses still belongs together.
type Concealer struct {
	known  map[string]string
	hider  *secret.Hider // of the known ones, in other forms than as they stand
	hidden int           // how many those were
}

// PlaceholderForm recognises the placeholders.
var PlaceholderForm = regexp.MustCompile(`hidden-credential-\d+`)

// SecretOf gives the names that stand for a placeholder: of the secret block in a
// trial, and of the environment variable that has its value.
func SecretOf(placeholder string) (name, env string) {
	name = strings.ReplaceAll(placeholder, "-", "_")
	return name, strings.ToUpper(name)
}

// sensitive recognises names of fields that hold credentials.
var sensitive = regexp.MustCompile(`(?i)pass(word|wd|phrase|code)?$|^pwd$|secret|token|api[-_]?key|credential|` +
	`authorization|^auth$|session[-_]?id|^sid$|csrf|xsrf|^pin$|^otp$|jwt`)

// shortest is the length from which on a value is replaced wherever it stands,
// and not only in its own field.
const shortest = 8

func (c *Concealer) placeholder(value string) string {
	if value == "" || PlaceholderForm.MatchString(value) {
		return value
	}
	if c.known == nil {
		c.known = map[string]string{}
	}
	p, ok := c.known[value]
	if !ok {
		p = fmt.Sprintf("hidden-credential-%d", len(c.known)+1)
		c.known[value] = p
	}
	return p
}

// Conceal returns an entry without credentials.
func (c *Concealer) Conceal(e Entry) Entry {
	switch e.What {
	case Head:
		e.Fields = slices.Clone(e.Fields)
		for i := range e.Fields {
			c.field(&e.Fields[i])
		}
		e.Start = c.query(e.Start)
	case Content, Event, Message, Data:
		if e.Bytes == nil {
			e.Text = c.text(e.Text)
		}
	}
	// What was found in one place may stand in another.
	for value, p := range c.known {
		if len(value) >= shortest && e.Bytes == nil {
			e.Text = strings.ReplaceAll(e.Text, value, p)
			e.Start = strings.ReplaceAll(e.Start, value, p)
		}
	}
	if e.Bytes == nil {
		e.Text, e.Start = c.others().Text(e.Text), c.others().Text(e.Start)
	}
	return e
}

// others hides what is known in other forms: in base64, say. What it was cannot be put back there.
func (c *Concealer) others() *secret.Hider {
	if c.hidden < len(c.known) {
		var all []string
		for value := range c.known {
			if len(value) >= shortest {
				all = append(all, value)
			}
		}
		c.hider, c.hidden = secret.New(all), len(c.known)
	}
	return c.hider
}

func (c *Concealer) field(f *http1.Field) {
	switch name := strings.ToLower(f.Name); {
	case name == "authorization" || name == "proxy-authorization":
		scheme, value, ok := strings.Cut(f.Value, " ")
		if !ok {
			scheme, value = "", f.Value
		}
		f.Value = strings.TrimSpace(scheme + " " + c.placeholder(strings.TrimSpace(value)))
	case name == "cookie":
		var pairs []string
		for _, pair := range strings.Split(f.Value, ";") {
			pairs = append(pairs, c.pair(strings.TrimSpace(pair)))
		}
		f.Value = strings.Join(pairs, "; ")
	case name == "set-cookie":
		pair, rest, more := strings.Cut(f.Value, ";")
		f.Value = c.pair(strings.TrimSpace(pair))
		if more {
			f.Value += ";" + rest
		}
	case name == "sec-websocket-key", name == "sec-websocket-accept":
	case sensitive.MatchString(name):
		f.Value = c.placeholder(f.Value)
	case name == "location" || name == "referer":
		f.Value = c.query(f.Value)
	}
}

func (c *Concealer) pair(s string) string {
	name, value, ok := strings.Cut(s, "=")
	if !ok {
		return s
	}
	return name + "=" + c.placeholder(value)
}

// query conceals what stands behind a ? in an address, or in a request line.
func (c *Concealer) query(s string) string {
	before, query, ok := strings.Cut(s, "?")
	if !ok {
		return s
	}
	query, rest, spaced := strings.Cut(query, " ")
	s = before + "?" + c.form(query)
	if spaced {
		s += " " + rest
	}
	return s
}

// form conceals the values of a form, or of a query.
func (c *Concealer) form(s string) string {
	pairs := strings.Split(s, "&")
	for i, p := range pairs {
		name, value, ok := strings.Cut(p, "=")
		plainName, err := url.QueryUnescape(name)
		if ok && err == nil && sensitive.MatchString(plainName) {
			pairs[i] = name + "=" + c.placeholder(value)
		}
	}
	return strings.Join(pairs, "&")
}

var formShape = regexp.MustCompile(`^[A-Za-z0-9_.%+\[\]-]+=[^\s{}"]*(&[A-Za-z0-9_.%+\[\]-]+=[^\s{}"]*)*$`)

// text conceals what a message says: a form, or JSON, wherever it stands, as behind the number of a packet,
// in several lines, or in a string of other JSON. The rest of it stays as it is, to the byte.
func (c *Concealer) text(s string) string {
	trimmed := strings.TrimSpace(s)
	if formShape.MatchString(trimmed) {
		return c.form(s)
	}
	for _, value := range sensitiveValues(trimmed, 0) {
		p := c.placeholder(value)
		quoted, inside := quote(value), quote(p)
		for range deepest { // as it stands in JSON, in JSON in a string, and so on
			s = strings.ReplaceAll(s, quoted, inside)
			quoted, inside = inString(quoted), inString(inside)
		}
	}
	return s
}

// quote writes a text as a string of JSON.
func quote(s string) string {
	b, _ := json.Marshal(s) // a string can always be
	return string(b)
}

// inString writes a text as it stands between the quotes of a string of JSON.
func inString(s string) string {
	s = quote(s)
	return s[1 : len(s)-1]
}

// Bounds on the search for JSON: how deep it is looked into that stands in strings of JSON, and how often
// what begins like JSON may be none in one text.
const (
	deepest   = 3
	mostTries = 64
)

// sensitiveValues lists the strings in all JSON of a text whose member's name looks like a credential's.
func sensitiveValues(s string, depth int) (all []string) {
	var walk func(key string, v any)
	walk = func(key string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for name, value := range v {
				walk(name, value)
			}
		case []any:
			// Of an event in a list the first is its name: ["auth", {...}].
			if name, is := first(v); is && sensitive.MatchString(name) {
				key, v = name, v[1:]
			}
			for _, value := range v {
				walk(key, value)
			}
		case string:
			switch inner := sensitiveInside(v, depth); {
			case len(inner) > 0:
				all = append(all, inner...)
			case v != "" && sensitive.MatchString(key):
				all = append(all, v)
			}
		}
	}
	for at, tries := 0, 0; at < len(s) && tries < mostTries; {
		begins := strings.IndexAny(s[at:], "{[")
		if begins < 0 {
			break
		}
		at += begins
		var v any
		d := json.NewDecoder(strings.NewReader(s[at:]))
		if d.Decode(&v) != nil {
			at, tries = at+1, tries+1
			continue
		}
		at += int(d.InputOffset())
		walk("", v)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// sensitiveInside is sensitiveValues for what stands in a string.
func sensitiveInside(s string, depth int) []string {
	if depth+1 >= deepest || !strings.ContainsAny(s, "{[") {
		return nil
	}
	return sensitiveValues(s, depth+1)
}

func first(list []any) (name string, is bool) {
	if len(list) < 2 {
		return "", false
	}
	name, is = list[0].(string)
	return name, is
}

// Concealed returns the recording without credentials.
func (r *Recording) Concealed() *Recording {
	out := *r
	out.Entries = slices.Clone(r.Entries)
	var c Concealer
	for i := range out.Entries {
		out.Entries[i] = c.Conceal(out.Entries[i])
	}
	if u, err := url.Parse(out.Target); err == nil && u.User != nil {
		u.User = nil
		out.Target = u.String()
	}
	return &out
}
