package probe

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/wire/http1"
)

// whyNoConnection says in words why TCP did not connect, and what to try.
func whyNoConnection(err error, to string) (string, []string) {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nobody listens at " + to, []string{"whether the server runs, and its log", "the port",
			"whether it listens at this address, or at another one of the machine alone"}
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH):
		return "there is no way to " + to, []string{"the address", "the network"}
	case errors.As(err, &timeout) && timeout.Timeout():
		return "no answer from " + to, []string{"a firewall in between", "the address"}
	}
	return err.Error(), nil
}

func whyNoTLS(err error) (string, []string) {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		return "the certificate is not signed by anybody known here",
			[]string{"--ca FILE, with the authority that has signed it", "--insecure, to take any"}
	case errors.As(err, &name):
		return "the certificate is for another name: " + err.Error(), []string{"the name in the address", "--insecure"}
	case errors.As(err, &invalid):
		return "the certificate is not valid: " + err.Error(), []string{"its dates", "--insecure"}
	case errors.As(err, &record):
		return "the server does not speak TLS there", []string{"ws:// in place of wss://"}
	}
	return "TLS was not agreed on: " + err.Error(), nil
}

func whyNoAnswer(err error, got int) (string, []string) {
	var timeout net.Error
	switch {
	case errors.As(err, &timeout) && timeout.Timeout():
		return "the server took the connection and does not answer",
			[]string{"whether it waits for TLS: wss://", "whether it speaks lines: tcp://",
				"another path: here may be a long poll, which is answered when something happens",
				"its log: it may be stuck"}
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET):
		if got > 0 {
			return "the connection ended in the middle of the answer", []string{"the server's log"}
		}
		return "the server closed the connection without an answer",
			[]string{"whether it speaks HTTP at all: tcp://", "whether it speaks TLS: wss://", "the server's log"}
	}
	return err.Error(), nil
}

// longAnswer is how long an answer takes that was waited for on purpose.
const longAnswer = 2 * time.Second

// streamed says what an answer is if it is no page: an event stream, or the end of a long
// poll; "" if it is neither.
func streamed(h *http1.Head, took time.Duration) string {
	kind := strings.ToLower(h.Get("Content-Type"))
	switch {
	case strings.HasPrefix(kind, "text/event-stream"):
		return "an event stream"
	case took >= longAnswer && !strings.HasPrefix(kind, "text/html"):
		return fmt.Sprintf("a long poll, which was answered after %v,", took.Round(100*time.Millisecond))
	}
	return ""
}

// behindASGI reports whether an answer comes from one of the servers that answer 403 to a
// WebSocket which nothing takes.
func behindASGI(h *http1.Head) bool {
	by := strings.ToLower(h.Get("Server"))
	for _, name := range []string{"uvicorn", "daphne", "hypercorn"} {
		if strings.Contains(by, name) {
			return true
		}
	}
	return false
}

var errAnsweredTwice = errors.New("an HTTP answer where a frame must be")

// whyMalformed says in words why frames could not be told apart any more.
func whyMalformed(err error, held []byte) string {
	why := "malformed: " + err.Error()
	if errors.Is(err, errAnsweredTwice) {
		line, _, _ := bytes.Cut(held, []byte("\r\n"))
		why = "after it had agreed to WebSocket, the server answered a second time, over HTTP: " +
			plain.Text(string(line), 120) + "; two parts of it, or a proxy, take the request"
	}
	return why
}

// whyRefused says in words why an answer does not agree to WebSocket, and what
// to try.
func whyRefused(h *http1.Head, err error, t Target, body []byte, took time.Duration) (string, []string) {
	why := err.Error()
	said := ""
	if text := strings.TrimSpace(string(body)); text != "" {
		said = plain.Text(text, 200)
		why += `; it says "` + said + `"`
	}
	about := strings.ToLower(said)
	var try []string
	switch h.Status {
	case 101:
		try = append(try, "a proxy in between may have changed the answer: connect to the server itself")
	case 200, 204:
		if what := streamed(h, took); what != "" {
			return "there is " + what + " here, not a WebSocket: " + why, []string{"another path",
				"an HTTP client, for what is here"}
		}
		try = append(try, "another path: there is a page here, not a WebSocket",
			"a proxy in between may have taken the Upgrade out: connect to the server itself")
	case 301, 302, 303, 307, 308:
		try = append(try, "where it leads: "+plain.Text(h.Get("Location"), 200))
	case 400:
		try = append(try, "the path and the query", "a header field or subprotocol that the server wants",
			"a proxy in between may have taken the Upgrade out: connect to the server itself")
	case 401, 407:
		try = append(try, "credentials: a cookie, a bearer token or a token in the address")
	case 403:
		if t.Origin != "" {
			try = append(try, "another origin: "+t.Origin+" may be foreign to the server")
		} else {
			try = append(try, "an origin, as a browser sends it: the server may want one")
		}
		path := "another path: some servers answer 403 to one that they do not know"
		if behindASGI(h) {
			try = append([]string{path + ", as this one's library does"}, try...)
		} else {
			try = append(try, path)
		}
		try = append(try, "credentials")
	case 404:
		try = append(try, "another path")
		if t.Origin != "" {
			try = append(try, "another origin: some servers answer 404 to "+t.Origin+" if it is foreign to them")
		} else {
			try = append(try, "an origin, as a browser sends it: some servers answer 404 to a foreign one, or to none")
		}
	case 405, 426:
		try = append(try, "another path: this one takes no WebSocket",
			"a proxy in between may have taken the Upgrade out: connect to the server itself")
	case 429, 503:
		try = append(try, "later: the server has enough to do, or holds as many as it may")
	case 502, 504:
		try = append(try, "the server itself: the proxy in front of it cannot reach it")
	default:
		if h.Status >= 500 {
			try = append(try, "the server's log")
		}
	}
	if strings.Contains(about, "origin") && t.Origin == "" {
		try = append(try, "an origin that it knows")
	}
	if strings.Contains(about, "protocol") {
		try = append(try, "a subprotocol")
	}
	if via := h.Get("Via"); via != "" {
		try = append(try, fmt.Sprintf("without the proxy: the answer came via %s", plain.Text(via, 80)))
	}
	return why, try
}
