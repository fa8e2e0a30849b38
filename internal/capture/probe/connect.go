package probe

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/secure"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// ParseURL reads an address: ws://, wss://, tcp://, tls:// or udp://; http:// and https://
// are taken for ws:// and wss://. In front of those two may stand how messages come over
// HTTP: events+http://, stream+http:// or polling+http://.
func ParseURL(s string) (*url.URL, error) {
	u, _, err := parseURL(s)
	return u, err
}

// overs are the ways in which messages come over HTTP.
var overs = map[string]transport.Mode{"events": transport.EventStream, "stream": transport.LongAnswer,
	"polling": transport.LongPolling}

// parseURL is ParseURL with how messages come over HTTP; "" if they do not.
func parseURL(s string) (u *url.URL, over string, err error) {
	plain := s
	if way, rest, is := strings.Cut(s, "+"); is && (strings.HasPrefix(rest, "http://") ||
		strings.HasPrefix(rest, "https://")) {
		if _, known := overs[way]; !known {
			return nil, "", fmt.Errorf("%q: over HTTP the probe speaks events+http://, stream+http:// and "+
				"polling+http://", s)
		}
		over, plain = way, rest
	}
	if !strings.Contains(plain, "://") {
		return nil, "", fmt.Errorf("%q has no scheme, as ws://%s has; one is ws://127.0.0.1:7411/live", s, s)
	}
	if u, err = url.Parse(plain); err == nil {
		_, err = wire.ParseAddress(plain)
	} else {
		err = fmt.Errorf("%q cannot be read as a URL", s)
	}
	if err != nil {
		return nil, "", fmt.Errorf("%w; one is ws://127.0.0.1:7411/live, or tcp://127.0.0.1:7411", err)
	}
	switch {
	case over != "":
	case u.Scheme == "http":
		u.Scheme = "ws"
	case u.Scheme == "https":
		u.Scheme = "wss"
	case !slices.Contains([]string{"ws", "wss", "tcp", "tls", "udp"}, u.Scheme):
		return nil, "", fmt.Errorf("%q: the probe speaks ws://, wss://, tcp://, tls:// and udp://, and "+
			"events+http://, stream+http:// and polling+http://", s)
	}
	return u, over, nil
}

const (
	connectWithin = 10 * time.Second
	answerWithin  = 10 * time.Second
)

// connect goes through the phases. It returns what came behind the answer; on
// an error, the end has been reported.
func (l *Line) connect(ctx context.Context) (rest []byte, err error) {
	u, over, err := parseURL(l.target.URL)
	if err != nil {
		return nil, l.refuse(err.Error(), nil)
	}
	address, err := wire.ParseAddress(u.String())
	if err != nil {
		return nil, l.refuse(err.Error(), nil)
	}
	if m := l.target.machine(over, u.Scheme); m != nil {
		l.carry(ctx, m, u, over)
		return nil, errCarried
	}
	conn, err := l.dial(ctx, address)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	l.conn, l.tcp = conn, address.Scheme == "tcp" || address.Scheme == "tls"
	l.mu.Unlock()
	if address.Secure() {
		if err := l.secure(ctx, u); err != nil {
			return nil, err
		}
	}
	if l.tcp {
		words := "each message is a line that ends in CR LF"
		switch {
		case l.target.Prefix != wire.NoPrefix:
			words = fmt.Sprintf("each message stands behind its length (%v)", l.target.Prefix)
		case l.target.Raw:
			words = "bytes, as they come"
		}
		l.opened(map[string]string{"tcp": "plain TCP: ", "tls": "TLS over TCP: "}[address.Scheme] + words)
		return nil, nil
	}
	return l.shake(ctx, u)
}

func (l *Line) doing(state string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.state = state
}

func (l *Line) opened(detail string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open, l.state = true, ""
	l.event(Event{What: Opened, Detail: detail})
}

// refuse tells that there will be no connection.
func (l *Line) refuse(why string, try []string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.event(Event{What: Refused, Why: why, Try: try})
	l.open, l.state = false, "the connection was refused"
	if l.conn != nil {
		l.conn.Close()
	}
	if !l.ended {
		l.ended = true
		l.event(Event{What: Ended, Why: "there is no connection", By: "refused"})
	}
	return errors.New(why)
}

// dial connects to where an address leads.
func (l *Line) dial(ctx context.Context, a wire.Address) (net.Conn, error) {
	to, err := l.whereIs(ctx, a)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	l.doing("the connection is being opened")
	conn, before, err := l.connectTo(ctx, to)
	var none *noConnection
	if errors.As(err, &none) {
		return nil, l.refuse(none.why, none.try)
	}
	l.say(connected(began, conn, before))
	return conn, nil
}

func connected(began time.Time, conn net.Conn, before string) Event {
	return Event{What: Phase, Phase: "connect", Took: time.Since(began),
		Detail: fmt.Sprintf("%v from %v%s", conn.RemoteAddr(), conn.LocalAddr(), before)}
}

// whereIs looks up where an address leads: to the first that its name has, beside the others
// in l.addrs.
func (l *Line) whereIs(ctx context.Context, a wire.Address) (wire.Endpoint, error) {
	at := l.target.At
	if at.Unix == "" && !at.Addr.IsValid() {
		addrs := l.target.Addrs
		if len(addrs) == 0 {
			var err error
			if addrs, err = l.lookUp(ctx, a.Name); err != nil {
				return at, err
			}
		}
		l.addrs, at.Addr = addrs, netip.AddrPortFrom(addrs[0], a.Port)
	}
	at.Datagrams = a.Scheme == "udp"
	return at, nil
}

// A noConnection is why no connection came about, with what to try.
type noConnection struct {
	why string
	try []string
}

func (e *noConnection) Error() string { return e.why }

// connectTo connects to an endpoint, or to another address of its name if that is there
// first; before says what came of those. The error is a *noConnection.
func (l *Line) connectTo(ctx context.Context, to wire.Endpoint) (conn net.Conn, before string, err error) {
	ctx, cancel := context.WithTimeout(ctx, connectWithin)
	defer cancel()
	tried, d := to.String(), net.Dialer{}
	switch {
	case to.Unix != "":
		conn, err = d.DialContext(ctx, "unix", to.Unix)
	case to.Datagrams:
		conn, err = d.DialContext(ctx, "udp", tried)
	default:
		addrs := []netip.Addr{to.Addr.Addr()}
		if len(l.addrs) > 0 && l.addrs[0] == addrs[0] {
			addrs = l.addrs
		}
		var attempts []poll.Attempt
		conn, attempts, err = poll.DialAny(ctx, addrs, to.Addr.Port())
		if err != nil { // why is what came of the first
			attempts = attempts[1:]
		}
		before = failedBefore(attempts)
	}
	if err != nil {
		why, try := whyNoConnection(err, tried)
		err = &noConnection{why + before, try}
	}
	return conn, before, err
}

// lookUp gives the addresses of a name, in the order of the system (RFC 6724).
func (l *Line) lookUp(ctx context.Context, name string) ([]netip.Addr, error) {
	began := time.Now()
	l.doing("it is looking up the name")
	addrs, err := poll.LookupInOrder(ctx, name)
	if err != nil {
		return nil, l.refuse("the name "+name+" is not known: "+err.Error(),
			[]string{"the address by number, such as 127.0.0.1", "the spelling of the name",
				"--connect-to, if the server is elsewhere"})
	}
	var all []string
	for _, a := range addrs {
		all = append(all, a.String())
	}
	l.say(Event{What: Phase, Phase: "name lookup", Took: time.Since(began), Detail: strings.Join(all, ", ")})
	return addrs, nil
}

// failedBefore says what came of the other addresses that were tried; "" if there were none.
func failedBefore(attempts []poll.Attempt) (words string) {
	for _, a := range attempts {
		switch {
		case a.Won:
		case a.Err == nil:
			words += fmt.Sprintf("; %s was slower", a.To)
		default:
			why, _ := whyNoConnection(a.Err, a.To)
			words += fmt.Sprintf("; %s after %v", why, a.Took.Round(time.Microsecond))
		}
	}
	return words
}

func (l *Line) secure(ctx context.Context, u *url.URL) error {
	began := time.Now()
	l.doing("TLS is being agreed on")
	conn, detail, err := l.secured(ctx, l.conn, u)
	if err != nil {
		return l.refuse(err.why, err.try)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.conn = conn
	l.event(Event{What: Phase, Phase: "TLS", Took: time.Since(began), Detail: detail})
	return nil
}

// secured puts TLS over a connection, and says what was agreed on.
func (l *Line) secured(ctx context.Context, conn net.Conn, u *url.URL) (net.Conn, string, *noConnection) {
	cfg, err := secure.ClientConfig(&l.target.TLS)
	if err != nil {
		return nil, "", &noConnection{why: err.Error()}
	}
	if cfg.ServerName == "" {
		cfg.ServerName = u.Hostname()
	}
	if len(cfg.NextProtos) == 0 && u.Scheme != "tls" {
		cfg.NextProtos = []string{"http/1.1"}
	}
	c := tls.Client(conn, cfg)
	ctx, cancel := context.WithTimeout(ctx, connectWithin)
	defer cancel()
	if err := c.HandshakeContext(ctx); err != nil {
		why, try := whyNoTLS(err)
		return nil, "", &noConnection{why, try}
	}
	s := c.ConnectionState()
	detail := tls.VersionName(s.Version) + ", " + tls.CipherSuiteName(s.CipherSuite)
	if len(s.PeerCertificates) > 0 {
		cert := s.PeerCertificates[0]
		detail += fmt.Sprintf(", certificate of %s by %s, until %s", cert.Subject, cert.Issuer,
			cert.NotAfter.Format("2006-01-02"))
		if l.target.TLS.Insecure {
			detail += ", not verified"
		}
	}
	return c, detail, nil
}

// Bounds on what is read of a refusal's content.
const (
	maxContent    = 16 << 10
	contentWithin = 500 * time.Millisecond
)

// content reads what an answer says, unpacked if it comes in chunks, as far as it comes
// soon.
func (l *Line) content(h *http1.Head, held []byte) (content []byte) {
	body, err := http1.ResponseBody(h, "GET")
	if err != nil || h.Status == 101 {
		return held
	}
	l.conn.SetDeadline(time.Now().Add(contentWithin))
	buf := make([]byte, 4096)
	for len(content) < maxContent {
		part, n, err := body.Next(held)
		content, held = append(content, part...), held[n:]
		if err != nil || body.Done() {
			return content
		}
		if n > 0 {
			continue
		}
		got, err := l.conn.Read(buf)
		held = append(held, buf[:got]...)
		if err != nil && got == 0 {
			return content
		}
	}
	return content[:maxContent]
}

// shake sends the opening handshake and reads its answer.
func (l *Line) shake(ctx context.Context, u *url.URL) (rest []byte, err error) {
	var nonce [16]byte
	rand.Read(nonce[:]) // never fails (crypto/rand)
	k := ws.KeyFor(nonce)
	fields := append([]http1.Field(nil), l.target.Fields...)
	if l.target.Origin != "" {
		fields = append(fields, http1.Field{Name: "Origin", Value: l.target.Origin})
	}
	if len(l.target.Protocols) > 0 {
		fields = append(fields, http1.Field{Name: "Sec-WebSocket-Protocol",
			Value: strings.Join(l.target.Protocols, ", ")})
	}
	request := ws.AppendRequest(nil, u.Host, u.RequestURI(), k, fields...)
	sent, _, err := http1.ConsumeRequest(request)
	if err != nil {
		return nil, l.refuse("the request would not be one: "+err.Error(), []string{"the header fields that you set"})
	}
	stop := context.AfterFunc(ctx, func() { l.conn.Close() })
	defer stop()
	began := time.Now()
	l.doing("the server has not agreed yet")
	l.conn.SetDeadline(began.Add(answerWithin))
	if _, err := l.conn.Write(request); err != nil {
		return nil, l.refuse("the request could not be sent: "+err.Error(), nil)
	}
	l.say(Event{What: Phase, Phase: "request", Took: time.Since(began), Detail: fmt.Sprintf("%d bytes", len(request))})
	l.say(Event{What: Request, Head: &sent})
	began = time.Now()
	var held []byte
	buf := make([]byte, 32<<10)
	for {
		h, n, err := http1.ConsumeResponse(held)
		if err != nil {
			return nil, l.refuse("the answer is no HTTP: "+err.Error(),
				[]string{"the port: does something else listen there?",
					"wss:// in place of ws://, if the server speaks TLS", "tcp://, if it speaks lines"})
		}
		if n > 0 {
			l.say(Event{What: Phase, Phase: "answer", Took: time.Since(began), Detail: fmt.Sprintf("%d bytes", n)})
			l.say(Event{What: Answer, Head: &h})
			return held[n:], l.agreed(&h, k, held[n:], time.Since(began))
		}
		got, err := l.conn.Read(buf)
		held = append(held, buf[:got]...)
		if err != nil && got == 0 {
			why, try := whyNoAnswer(err, len(held))
			return nil, l.refuse(why, try)
		}
	}
}

func (l *Line) agreed(h *http1.Head, key string, behind []byte, took time.Duration) error {
	if err := ws.CheckResponse(h, key, ws.Offer{Protocols: l.target.Protocols}); err != nil {
		why, try := whyRefused(h, err, l.target, l.content(h, behind), took)
		return l.refuse(why, try)
	}
	l.conn.SetDeadline(time.Time{})
	var notes []string
	if p := h.Get("Sec-WebSocket-Protocol"); p != "" {
		notes = append(notes, "subprotocol "+p)
	} else if len(l.target.Protocols) > 0 {
		notes = append(notes, "no subprotocol, of "+strings.Join(l.target.Protocols, ", "))
	} else {
		notes = append(notes, "no subprotocol")
	}
	notes = append(notes, "no extensions")
	for _, f := range h.Fields {
		if strings.EqualFold(f.Name, "Set-Cookie") {
			notes = append(notes, "cookie "+f.Value)
		}
	}
	l.opened(strings.Join(notes, ", "))
	return nil
}
