package http1

import (
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// maxCookies bounds a Jar.
const maxCookies = 50

// A Cookie is what an answer sets (RFC 6265 4.1).
type Cookie struct {
	Name, Value string
	Over        bool // it is to be forgotten at once

	domain   string // without a port, in small letters
	hostOnly bool   // it goes to that host alone, and not to those below it
	path     string
	secure   bool
	until    time.Time // zero: until the jar is forgotten
	number   int       // earlier ones have lower numbers
}

// SetCookies gives the cookies that an answer sets. What cannot be read is left
// out.
func SetCookies(fields []Field) []Cookie {
	var all []Cookie
	for _, f := range fields {
		if equalFold(f.Name, "Set-Cookie") {
			if c, err := http.ParseSetCookie(f.Value); err == nil {
				all = append(all, cookieOf(c))
			}
		}
	}
	return all
}

func cookieOf(c *http.Cookie) Cookie {
	return Cookie{Name: c.Name, Value: c.Value, Over: c.MaxAge < 0 || c.Value == "", path: c.Path, secure: c.Secure,
		domain: strings.ToLower(strings.TrimPrefix(c.Domain, "."))}
}

// A Jar keeps the cookies of a client (RFC 6265 5.3 and 5.4). There is no list of public
// suffixes: a domain needs a dot in it. Its zero value is empty.
type Jar struct {
	cookies []Cookie
	number  int
}

// Values gives the values of all cookies, one after the other.
func (j *Jar) Values(yield func(string) bool) {
	for i := range j.cookies {
		if !yield(j.cookies[i].Value) {
			return
		}
	}
}

// Keep puts the cookies of an answer into the jar, and takes out those that it ends. The
// answer came from a host (a Host field's value), for a path, at a time.
func (j *Jar) Keep(h *Head, host, path string, now time.Time) {
	host = bareHost(host)
	for _, f := range h.Fields {
		if !equalFold(f.Name, "Set-Cookie") {
			continue
		}
		parsed, err := http.ParseSetCookie(f.Value)
		if err != nil {
			continue
		}
		c := cookieOf(parsed)
		switch {
		case c.domain == "" || c.domain == host:
			c.hostOnly, c.domain = c.domain == "", host
		case !strings.Contains(c.domain, "."), !within(host, c.domain):
			continue // a host sets no cookies for others (5.3, step 6)
		}
		if !strings.HasPrefix(c.path, "/") {
			c.path = defaultPath(path)
		}
		switch {
		case parsed.MaxAge > 0:
			c.until = now.Add(time.Duration(parsed.MaxAge) * time.Second)
		case parsed.MaxAge == 0 && !parsed.Expires.IsZero():
			c.until = parsed.Expires
			c.Over = c.Over || !c.until.After(now)
		}
		j.put(c)
	}
}

// put replaces a cookie of the same name, domain and path; it keeps that one's place.
func (j *Jar) put(c Cookie) {
	c.number = j.number
	j.number++
	j.cookies = slices.DeleteFunc(j.cookies, func(old Cookie) bool {
		same := old.Name == c.Name && old.domain == c.domain && old.path == c.path
		if same {
			c.number = old.number
		}
		return same
	})
	if !c.Over && len(j.cookies) < maxCookies {
		j.cookies = append(j.cookies, c)
	}
}

// Field is what the Cookie field of a request to a host says, for a path, at a time; ""
// if no cookie goes there. Longer paths come first, then earlier cookies (5.4).
func (j *Jar) Field(host, path string, secure bool, now time.Time) string {
	host = bareHost(host)
	path, _, _ = strings.Cut(path, "?")
	j.cookies = slices.DeleteFunc(j.cookies, func(c Cookie) bool { return !c.until.IsZero() && !c.until.After(now) })
	var fit []Cookie
	for _, c := range j.cookies {
		goes := c.domain == host || !c.hostOnly && within(host, c.domain)
		if goes && onPath(path, c.path) && (secure || !c.secure) {
			fit = append(fit, c)
		}
	}
	slices.SortFunc(fit, func(a, b Cookie) int {
		if len(a.path) != len(b.path) {
			return len(b.path) - len(a.path)
		}
		return a.number - b.number
	})
	pairs := make([]string, len(fit))
	for i, c := range fit {
		pairs[i] = c.Name + "=" + c.Value
	}
	return strings.Join(pairs, "; ")
}

// bareHost is a host without its port.
func bareHost(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		host = host[:i]
	}
	return strings.ToLower(strings.Trim(host, "[]"))
}

// within reports whether a host is below a domain (5.1.3); an address is below none.
func within(host, domain string) bool {
	_, err := netip.ParseAddr(host)
	return err != nil && strings.HasSuffix(host, "."+domain)
}

// defaultPath is the path of a cookie that names none (5.1.4).
func defaultPath(path string) string {
	path, _, _ = strings.Cut(path, "?")
	if i := strings.LastIndexByte(path, '/'); i > 0 {
		return path[:i]
	}
	return "/"
}

// onPath reports whether a request's path is at a cookie's or below it (5.1.4).
func onPath(path, of string) bool {
	return path == of || strings.HasPrefix(path, of) && (strings.HasSuffix(of, "/") || path[len(of)] == '/')
}
