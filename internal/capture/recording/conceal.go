package recording

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"tidepull/internal/wire/http1"
)

// A Concealer puts placeholders in the place of credentials: in Authorization
// and cookies, in fields of JSON and forms and in queries that are named like
// passwords and tokens. One value has one placeholder wherever it stands, so that
// what a server gives and a client uses still belongs together.
type Concealer struct {
	known map[string]string
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
	return e
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

// text conceals what a message says, JSON or a form; the rest of it stays as it
// is, to the byte.
func (c *Concealer) text(s string) string {
	trimmed := strings.TrimSpace(s)
	if formShape.MatchString(trimmed) {
		return c.form(s)
	}
	if trimmed == "" || trimmed[0] != '{' && trimmed[0] != '[' {
		return s
	}
	for _, value := range sensitiveValues([]byte(trimmed)) {
		p := c.placeholder(value)
		quoted, _ := json.Marshal(value) // a string can always be
		s = strings.ReplaceAll(s, string(quoted), `"`+p+`"`)
	}
	return s
}

// sensitiveValues lists the strings of a JSON text whose member's name looks like
// a credential's.
func sensitiveValues(b []byte) (all []string) {
	var v any
	if json.NewDecoder(bytes.NewReader(b)).Decode(&v) != nil {
		return nil
	}
	var walk func(key string, v any)
	walk = func(key string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for name, value := range v {
				walk(name, value)
			}
		case []any:
			for _, value := range v {
				walk(key, value)
			}
		case string:
			if v != "" && sensitive.MatchString(key) {
				all = append(all, v)
			}
		}
	}
	walk("", v)
	slices.Sort(all)
	return slices.Compact(all)
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
