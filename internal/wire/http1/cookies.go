package http1

import (
	"net/http"
	"slices"
	"strings"
)

// maxCookies bounds a Jar.
const maxCookies = 50

// A Cookie is what an answer sets (RFC 6265 4.1).
type Cookie struct {
	Name, Value string
	Over        bool // it is to be forgotten at once
}

// SetCookies gives the cookies that an answer sets. What cannot be read is left
// out.
func SetCookies(fields []Field) []Cookie {
	var all []Cookie
	for _, f := range fields {
		if equalFold(f.Name, "Set-Cookie") {
			if c, err := http.ParseSetCookie(f.Value); err == nil {
				all = append(all, Cookie{c.Name, c.Value, c.MaxAge < 0 || c.Value == ""})
			}
		}
	}
	return all
}

// A Jar keeps the cookies of one server (RFC 6265 5.3, without domains and paths:
// there is one server).
type Jar struct{ cookies []Cookie }

// Keep puts an answer's cookies into the jar, and takes out those that it ends.
func (j *Jar) Keep(h *Head) {
	for _, c := range SetCookies(h.Fields) {
		j.cookies = slices.DeleteFunc(j.cookies, func(old Cookie) bool { return old.Name == c.Name })
		if !c.Over && len(j.cookies) < maxCookies {
			j.cookies = append(j.cookies, c)
		}
	}
}

// Field is what the Cookie field of a request says; "" if the jar is empty.
func (j *Jar) Field() string {
	pairs := make([]string, len(j.cookies))
	for i, c := range j.cookies {
		pairs[i] = c.Name + "=" + c.Value
	}
	return strings.Join(pairs, "; ")
}
