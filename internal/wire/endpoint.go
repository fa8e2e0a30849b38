package wire

import (
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
)

// An Endpoint is what a line connects to: an address of the network, or a socket
// of this machine's file system.
type Endpoint struct {
	Addr netip.AddrPort // of TCP
	Unix string         // a path; if it is set, Addr is not used
}

func (e Endpoint) String() string {
	if e.Unix != "" {
		return "unix:" + e.Unix
	}
	return e.Addr.String()
}

// An Address is what a trial says of a server: a URL taken apart.
type Address struct {
	Scheme string // ws, http or tcp
	Host   string // with its port, if the address has one; for the Host field (RFC 9110 7.2)
	Name   string // the host without it, to be looked up
	Port   uint16
	Path   string // with the query: a request's target (RFC 9112 3.2.1)
}

// ParseAddress takes an address apart. Without a port it gets that of its scheme;
// tcp has none.
func ParseAddress(s string) (Address, error) {
	u, err := url.Parse(s)
	if err != nil {
		return Address{}, err // says what and where
	}
	a := Address{Scheme: u.Scheme, Host: u.Host, Name: u.Hostname(), Port: 80, Path: u.RequestURI()}
	switch port := u.Port(); {
	case port != "":
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			return a, fmt.Errorf("the port of %s must be a number up to 65535", s)
		}
		a.Port = uint16(n)
	case u.Scheme == "tcp":
		return a, fmt.Errorf("%s has no port", s)
	}
	return a, nil
}
