package ws

import (
	"fmt"
	"strconv"
	"strings"

	"tidepull/internal/base/plain"
)

// Deflate are the parameters of permessage-deflate (RFC 7692 7.1) that are offered, or
// agreed on.
type Deflate struct {
	ServerFresh bool // server_no_context_takeover: what the server sends refers to nothing before
	ClientFresh bool // client_no_context_takeover: the same of the client
	// how far back the server, and the client, refers at most: 2 to the power of this, from
	// 8 to 15; 0 in an offer: whatever the other side wants
	ServerBits, ClientBits int
}

// Offer is the value of Sec-WebSocket-Extensions that offers it.
func (d *Deflate) Offer() string {
	s := "permessage-deflate"
	if d.ServerFresh {
		s += "; server_no_context_takeover"
	}
	if d.ClientFresh {
		s += "; client_no_context_takeover"
	}
	if d.ServerBits > 0 {
		s += fmt.Sprintf("; server_max_window_bits=%d", d.ServerBits)
	}
	if d.ClientBits > 0 {
		return s + fmt.Sprintf("; client_max_window_bits=%d", d.ClientBits)
	}
	return s + "; client_max_window_bits"
}

// Agreed reads what the server answered to an offer; nil if it took none of it. The error
// says what is wrong with the answer (RFC 7692 5.1, 7.1).
func (d *Deflate) Agreed(answer string) (*Deflate, error) {
	if answer == "" {
		return nil, nil
	}
	name, params, err := extension(answer)
	switch {
	case err != nil:
		return nil, err
	case d == nil || name != "permessage-deflate":
		return nil, fmt.Errorf("the server uses the extension %q, which was not offered", plain.Text(name, 60))
	}
	got := &Deflate{ServerBits: 15, ClientBits: 15}
	for param, value := range params {
		switch param {
		case "server_no_context_takeover":
			got.ServerFresh = true
		case "client_no_context_takeover":
			got.ClientFresh = true
		case "server_max_window_bits":
			got.ServerBits, err = windowBits(value)
		case "client_max_window_bits":
			got.ClientBits, err = windowBits(value)
		default:
			err = fmt.Errorf("the server answers with the parameter %q of permessage-deflate, which there is not",
				plain.Text(param, 60))
		}
		if err == nil && value != "" && strings.HasSuffix(param, "takeover") {
			err = fmt.Errorf("%s has no value", param)
		}
		if err != nil {
			return nil, err
		}
	}
	switch {
	case d.ServerFresh && !got.ServerFresh:
		return nil, fmt.Errorf("the server does not agree to server_no_context_takeover, and to the offer all the same")
	case d.ServerBits > 0 && got.ServerBits > d.ServerBits:
		return nil, fmt.Errorf("the server's window has %d bits; %d were asked for", got.ServerBits, d.ServerBits)
	}
	if d.ClientFresh {
		got.ClientFresh = true // it may refer to nothing before without asking
	}
	if d.ClientBits > 0 {
		got.ClientBits = min(got.ClientBits, d.ClientBits)
	}
	return got, nil
}

// Accept is what a server that takes the offer of permessage-deflate agrees to, and its
// answer; nil if a client offers none that can be taken.
func Accept(offer string) (*Deflate, string) {
	for _, one := range strings.Split(offer, ",") {
		name, params, err := extension(one)
		if err != nil || name != "permessage-deflate" {
			continue
		}
		got, answer := &Deflate{ServerBits: 15, ClientBits: 15}, name
		for param, value := range params {
			switch param {
			case "server_no_context_takeover":
				got.ServerFresh = true
				answer += "; " + param
			case "client_no_context_takeover":
				got.ClientFresh = true
				answer += "; " + param
			case "server_max_window_bits":
				if got.ServerBits, err = windowBits(value); err == nil {
					answer += fmt.Sprintf("; %s=%d", param, got.ServerBits)
				}
			case "client_max_window_bits":
				if value == "" {
					break // it can, and need not
				}
				if got.ClientBits, err = windowBits(value); err == nil {
					answer += fmt.Sprintf("; %s=%d", param, got.ClientBits)
				}
			default:
				err = fmt.Errorf("an unknown parameter")
			}
		}
		if err == nil {
			return got, answer
		}
	}
	return nil, ""
}

// extension takes one extension apart (RFC 6455 9.1).
func extension(s string) (name string, params map[string]string, err error) {
	parts := strings.Split(s, ";")
	params = map[string]string{}
	for _, part := range parts[1:] {
		param, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		param = strings.TrimSpace(param)
		if _, twice := params[param]; twice || param == "" {
			return "", nil, fmt.Errorf("the extension has the parameter %q twice, or an empty one", plain.Text(param,
				60))
		}
		params[param] = strings.Trim(strings.TrimSpace(value), `"`)
	}
	return strings.TrimSpace(parts[0]), params, nil
}

func windowBits(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 8 || n > 15 || s[0] == '0' {
		return 0, fmt.Errorf("a window has 8 to 15 bits, and not %q", plain.Text(s, 20))
	}
	return n, nil
}
