// Package secret takes secrets out of what is about to be kept or shown, in
// every form that the trial language can give them: as they stand, in capitals
// and small letters, escaped for JSON or an address, in hexadecimal digits, and
// in base64, wherever in the encoded text they begin.
package secret

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"
	"unicode/utf16"

	"tidepull/internal/base/plain"
)

// Dots stand in the place of a secret.
const Dots = "•••"

// least is the shortest form that is looked for, in bytes: shorter ones would
// hide half of everything else.
const least = 4

// A Hider finds the forms of some secrets. It does not change, and may be used
// by several goroutines. A nil one hides nothing.
type Hider struct {
	begins [1 << 16 / 64]uint64   // whether a form begins with two bytes, without regard to case
	forms  map[[2]byte][]([]byte) // by these, the longest first; in small letters
}

// New makes a Hider of secrets, in all forms that the language can give them.
func New(secrets []string) *Hider { return newHider(secrets, deep) }

// Of makes a Hider of secrets that a server issued: as they stand, and in what one function makes of them.
func Of(secrets []string) *Hider { return newHider(secrets, 1) }

// deep is how many functions around each other are undone.
const deep = 3

func newHider(secrets []string, deep int) *Hider {
	if len(secrets) == 0 {
		return nil
	}
	h := &Hider{forms: map[[2]byte][]([]byte){}}
	seen := map[string]bool{}
	for _, s := range secrets {
		for _, f := range formsOf(s, deep) {
			low := string(fold([]byte(f)))
			if len(low) < least || seen[low] {
				continue
			}
			seen[low] = true
			key := [2]byte{low[0], low[1]}
			h.forms[key] = append(h.forms[key], []byte(low))
			at := uint(low[0])<<8 | uint(low[1])
			h.begins[at/64] |= 1 << (at % 64)
		}
	}
	for _, list := range h.forms {
		slices.SortFunc(list, func(a, b []byte) int { return len(b) - len(a) })
	}
	return h
}

// formsOf lists the forms of a secret: what one function of the language, and others around it, make of
// it. Matching disregards the case of ASCII.
func formsOf(s string, deep int) []string {
	all := []string{s, strings.TrimSpace(s), strings.ToUpper(s), strings.ToLower(s)}
	for range deep {
		all = written(all)
	}
	return all
}

// written lists texts and what they become when they are encoded once.
func written(texts []string) []string {
	all := slices.Clone(texts)
	for _, v := range texts {
		quoted, _ := json.Marshal(v) // a string can always be
		all = append(all, plain.Text(v, 0), string(quoted[1:len(quoted)-1]), escaped(v), url.QueryEscape(v),
			url.PathEscape(v), hex.EncodeToString([]byte(v)), html.EscapeString(v), ascii(v), percent(v))
		all = append(all, encoded(v)...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// ascii writes a text as it stands in JSON without any letter beyond ASCII.
func ascii(s string) string {
	var b strings.Builder
	for _, r := range escaped(s) {
		switch {
		case r < 0x80:
			b.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, "\\u%04x\\u%04x", high, low)
		default:
			fmt.Fprintf(&b, "\\u%04x", r)
		}
	}
	return b.String()
}

// percent writes every byte of a text as %xx.
func percent(s string) string {
	b := make([]byte, 0, 3*len(s))
	for i := range len(s) {
		b = fmt.Appendf(b, "%%%02x", s[i])
	}
	return string(b)
}

// escaped writes a text as it stands between the quotes of JSON, with no more
// escapes than must be.
func escaped(s string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(s) != nil {
		return s
	}
	return string(bytes.Trim(b.Bytes(), "\"\n"))
}

// encoded gives what of base64, of either alphabet, follows from a text alone
// when it begins one, two or three bytes into a group of three.
func encoded(s string) (all []string) {
	for before := range 3 {
		padded := append(make([]byte, before), s...)
		from := (before*8 + 5) / 6
		to := len(padded) * 8 / 6
		for _, enc := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			if text := enc.EncodeToString(padded); from < to {
				all = append(all, text[from:to])
			}
		}
	}
	return all
}

func fold(b []byte) []byte {
	out := make([]byte, len(b))
	for i, c := range b {
		out[i] = lower(c)
	}
	return out
}

func lower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// Text returns s with dots in the place of every secret. At its end, if it
// may have been cut, the beginning of one counts too.
func (h *Hider) Text(s string) string {
	if h == nil || len(s) < least {
		return s
	}
	return string(h.Bytes([]byte(s)))
}

// Bytes is Text for bytes; what holds no secret is returned as it is.
func (h *Hider) Bytes(b []byte) []byte {
	if h == nil {
		return b
	}
	var out []byte
	kept := 0 // b up to here is in out
	for i := 0; i+least <= len(b); {
		n := h.at(b[i:])
		if n == 0 {
			i++
			continue
		}
		out = append(append(out, b[kept:i]...), Dots...)
		i += n
		kept = i
	}
	if kept == 0 {
		return b
	}
	return append(out, b[kept:]...)
}

const cut = "…"

// at gives the length of the secret at the front of b, 0 if there is none.
func (h *Hider) at(b []byte) int {
	first, second := lower(b[0]), lower(b[1])
	at := uint(first)<<8 | uint(second)
	if h.begins[at/64]&(1<<(at%64)) == 0 {
		return 0
	}
	for _, f := range h.forms[[2]byte{first, second}] {
		if hasPrefix(b, f) {
			return len(f)
		}
		if end := len(b) - len(cut); end >= least && end < len(f) && string(b[end:]) == cut &&
			hasPrefix(f, fold(b[:end])) {
			return end
		}
	}
	return 0
}

// hasPrefix reports whether b begins with low, which is in small letters.
func hasPrefix(b, low []byte) bool {
	if len(b) < len(low) {
		return false
	}
	for i, c := range low {
		if lower(b[i]) != c {
			return false
		}
	}
	return true
}
