package wire

import (
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// An Endpoint is what a line connects to: an address of the network, or a socket
// of this machine's file system.
type Endpoint struct {
	Addr      netip.AddrPort // of TCP, or of UDP
	Datagrams bool           // what is sent and comes is datagrams (UDP, RFC 768)
	Unix      string         // a path; if it is set, Addr is not used
	// TLS is the server's name, if the connection is encrypted; Protocol is what it offers
	// to speak inside (RFC 7301), "" for nothing.
	TLS, Protocol string
	From          netip.Addr    // of this machine, that is connected from; zero: the system's choice
	KeepAlive     time.Duration // of TCP: how often the other side's system is asked; 0: it is not
	Via           Via           // Addr is a proxy that is to connect it; zero: it is not
}

// Secured is an endpoint as the address wants it: with TLS if it asks for that.
func (a *Address) Secured(at Endpoint) Endpoint {
	if a.Secure() {
		if at.TLS = a.Name; a.Scheme != "tls" {
			at.Protocol = "http/1.1"
		}
	}
	return at
}

// A Via is what an HTTP proxy is asked for (RFC 9110 9.3.6).
type Via struct {
	To            string // HOST:PORT, as the proxy is to look it up; "": there is no proxy
	Authorization string // the value of Proxy-Authorization; "": none
}

// ParseEndpoint reads where to connect to: ADDRESS:PORT by number, or unix:PATH.
func ParseEndpoint(s string) (Endpoint, error) {
	if path, is := strings.CutPrefix(s, "unix:"); is && path != "" {
		return Endpoint{Unix: path}, nil
	}
	at, err := netip.ParseAddrPort(s)
	if err != nil {
		return Endpoint{}, fmt.Errorf("%q is no ADDRESS:PORT such as 127.0.0.1:8080 or [::1]:8080, and no unix:PATH", s)
	}
	return Endpoint{Addr: at}, nil
}

func (e Endpoint) String() string {
	if e.Unix != "" {
		return "unix:" + e.Unix
	}
	return e.Addr.String()
}

// An Address is what a trial says of a server: a URL taken apart.
type Address struct {
	Scheme string // ws, wss, http, https, tcp, tls or udp
	Host   string // with its port, if the address has one; for the Host field (RFC 9110 7.2)
	Name   string // the host without it, to be looked up
	Port   uint16
	Path   string // with the query: a request's target (RFC 9112 3.2.1)
}

// Secure reports whether the address asks for TLS.
func (a *Address) Secure() bool { return a.Scheme == "wss" || a.Scheme == "https" || a.Scheme == "tls" }

// An AddressError is why a text is no address that a server can be reached at.
type AddressError struct {
	Address string
	Wrong   string // what is wrong with it, as the rest of a sentence
}

func (e *AddressError) Error() string { return fmt.Sprintf("the address %q %s", e.Address, e.Wrong) }

// ParseAddress takes an address apart. Without a port it gets that of its scheme;
// tcp, tls and udp have none. The error is an *AddressError.
func ParseAddress(s string) (Address, error) {
	u, err := url.Parse(s)
	if err != nil {
		return Address{}, &AddressError{s, "cannot be read as a URL"}
	}
	a := Address{Scheme: u.Scheme, Host: u.Host, Name: u.Hostname(), Port: 80, Path: u.RequestURI()}
	if u.Scheme == "wss" || u.Scheme == "https" {
		a.Port = 443
	}
	switch port := u.Port(); {
	case a.Name == "":
		return a, &AddressError{s, "names no host"}
	case port != "":
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			return a, &AddressError{s, "has a port above 65535"}
		}
		a.Port = uint16(n)
	case u.Scheme == "tcp" || u.Scheme == "tls" || u.Scheme == "udp":
		return a, &AddressError{s, "names no port"}
	}
	return a, nil
}
