package workers

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

// An Address is where the processes of runs meet: a NATS server, and what opens it. It is told to workers as JSON.
type Address struct {
	URL   string // nats://HOST:PORT, or tls:// for TLS; several of one cluster with commas between them
	Token string
	Creds string // a file with a user's credentials (JWT and key), in place of a token
	CA    string // a file with the certificates of who signed the server's; "": those of the system
	Cert  string // files with a certificate and key of this side: as a client, and for the server if it is started here
	Key   string
}

// ReadToken reads a token from a file, which is not to be readable by everybody.
func ReadToken(path string) (string, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("the token: %w", err)
	}
	token := strings.TrimSpace(string(b))
	if len(token) < 8 || strings.ContainsAny(token, " \t\r\n") {
		return "", fmt.Errorf("the token in %s has to be one word of 8 characters or more", path)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o007 != 0 {
		return "", fmt.Errorf("everybody on this machine can read %s: chmod 600 it", path)
	}
	return token, nil
}

// first is the address of the first server, with its host and port.
func (a *Address) first() (host, port string, err error) {
	u, err := url.Parse(strings.Split(a.URL, ",")[0])
	if err != nil || u.Hostname() == "" || u.Scheme != "nats" && u.Scheme != "tls" {
		return "", "", fmt.Errorf("%q is no address of a NATS server: wanted is nats://HOST:PORT, or tls://HOST:PORT",
			a.URL)
	}
	if port = u.Port(); port == "" {
		port = strconv.Itoa(nats.DefaultPort)
	}
	return u.Hostname(), port, nil
}

// Check reports what is wrong with the address, before it is used.
func (a *Address) Check() error {
	_, _, err := a.first()
	return err
}

// secure reports whether the address asks for TLS.
func (a *Address) secure() bool { return strings.HasPrefix(a.URL, "tls://") }

// options are those of a connection to it.
func (a *Address) options(name string) []nats.Option {
	all := []nats.Option{nats.Name(name), nats.NoReconnect(), nats.Timeout(dialFor)}
	if a.Token != "" {
		all = append(all, nats.Token(a.Token))
	}
	if a.Creds != "" {
		all = append(all, nats.UserCredentials(a.Creds))
	}
	if a.CA != "" {
		all = append(all, nats.RootCAs(a.CA))
	}
	if a.Cert != "" {
		all = append(all, nats.ClientCert(a.Cert, a.Key))
	}
	return all
}

const dialFor = 5 * time.Second

// connect opens a connection; failed hears of what goes wrong with it later.
func (a *Address) connect(name string, failed func(error), more ...nats.Option) (*nats.Conn, error) {
	nc, err := nats.Connect(a.URL, append(a.options(name), append(more,
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			failed(fmt.Errorf("between the run's processes: %w", err))
		}))...)...)
	if err != nil {
		return nil, fmt.Errorf("the NATS server at %s: %w", a.URL, err)
	}
	return nc, nil
}

// serve starts a server of this process's own at an address of this machine.
func (a *Address) serve(host string, port int) (*server.Server, error) {
	o := &server.Options{ServerName: "tidepull", Host: host, Port: port, Authorization: a.Token, NoLog: true,
		NoSigs:     true,
		MaxPayload: 64 << 20, MaxPending: 1 << 30, WriteDeadline: time.Minute}
	if a.secure() {
		if a.Cert == "" {
			return nil, errors.New("a server with TLS needs a certificate: give --cert and --key")
		}
		config, err := server.GenTLSConfig(&server.TLSConfigOpts{CertFile: a.Cert, KeyFile: a.Key, CaFile: a.CA,
			Verify: a.CA != ""})
		if err != nil {
			return nil, fmt.Errorf("the server's certificate: %w", err)
		}
		o.TLSConfig, o.TLSTimeout = config, dialFor.Seconds()
	}
	s, err := server.NewServer(o)
	if err != nil {
		return nil, fmt.Errorf("the lead's server: %w", err)
	}
	s.Start()
	if !s.ReadyForConnections(10 * time.Second) {
		s.Shutdown()
		return nil, fmt.Errorf("the lead's server does not listen at %s", net.JoinHostPort(host, strconv.Itoa(port)))
	}
	return s, nil
}

// mine reports whether a host is this machine, and gives its address.
func mine(host string) (netip.Addr, bool) {
	ips, err := net.LookupIP(host)
	if err != nil {
		return netip.Addr{}, false
	}
	own, err := net.InterfaceAddrs()
	if err != nil {
		return netip.Addr{}, false
	}
	for _, ip := range ips {
		at, _ := netip.AddrFromSlice(ip)
		if at = at.Unmap(); at.IsUnspecified() || at.IsLoopback() {
			return at, true
		}
		for _, a := range own {
			if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Unmap() == at {
				return at, true
			}
		}
	}
	return netip.Addr{}, false
}

// Here is the address of this machine at which runs meet; false if that is another machine, or all of its addresses.
func (a *Address) Here() (netip.Addr, bool) {
	host, _, err := a.first()
	if err != nil {
		return netip.Addr{}, false
	}
	at, here := mine(host)
	return at, here && !at.IsUnspecified()
}

// free reports whether nobody listens at an address of this machine.
func free(host, port string) bool {
	l, err := net.Listen("tcp", net.JoinHostPort(host, port))
	if err != nil {
		return false
	}
	return l.Close() == nil
}

// meet has an address ready to be connected to: if it is of this machine and nobody listens there, a server of this
// process's own does from then on, which the caller shuts down; otherwise it is nil.
func (a *Address) meet() (*server.Server, error) {
	if a.URL == "" { // of one run on this machine
		s, err := a.serve("127.0.0.1", server.RANDOM_PORT)
		if err == nil {
			a.URL = s.ClientURL()
		}
		return s, err
	}
	host, port, err := a.first()
	if err != nil {
		return nil, err
	}
	if _, here := mine(host); !here || !free(host, port) {
		return nil, nil
	}
	if a.Token == "" {
		return nil, fmt.Errorf("nobody listens at %s, and a server of the run's own there needs a token: give "+
			"--token-file",
			a.URL)
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("%q is no port", port)
	}
	return a.serve(host, n)
}

// Hopeless reports whether it makes no sense to try again to reach a server: what opens it is wrong.
func Hopeless(err error) bool {
	return errors.Is(err, nats.ErrAuthorization) || errors.Is(err, os.ErrNotExist) || errors.Is(err, os.ErrPermission)
}
