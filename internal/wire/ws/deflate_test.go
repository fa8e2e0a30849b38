package ws

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"tidepull/internal/wire"
)

// TestDeflateStandard: the examples of RFC 7692 7.2.3, in one frame and in two, cut
// anywhere.
func TestDeflateStandard(t *testing.T) {
	for name, tc := range map[string]struct{ bytes, want string }{
		"one block":          {"\xc1\x07\xf2\x48\xcd\xc9\xc9\x07\x00", "Hello"},
		"in two fragments":   {"\x41\x03\xf2\x48\xcd\x80\x04\xc9\xc9\x07\x00", "Hello"},
		"sharing the window": {"\xc1\x07\xf2\x48\xcd\xc9\xc9\x07\x00\xc1\x05\xf2\x00\x11\x00\x00", "Hello,Hello"},
		"no compression":     {"\xc1\x0b\x00\x05\x00\xfa\xff\x48\x65\x6c\x6c\x6f\x00", "Hello"},
		"a final block":      {"\xc1\x08\xf3\x48\xcd\xc9\xc9\x07\x00\x00", "Hello"},
		"two blocks":         {"\xc1\x0d\xf2\x48\x05\x00\x00\x00\xff\xff\xca\xc9\xc9\x07\x00", "Hello"},
		"an empty message":   {"\xc1\x01\x00", ""},
		"a plain one between": {"\xc1\x07\xf2\x48\xcd\xc9\xc9\x07\x00\x81\x02hi\xc1\x05\xf2\x00\x11\x00\x00",
			"Hello,hi,Hello"},
	} {
		for step := 1; step <= len(tc.bytes); step++ {
			r := &Reader{Unpacks: &Unpacking{Flater: &Flater{}, Bits: 15, Past: &Past{}}}
			var got []string
			var held []byte
			for b := []byte(tc.bytes); len(b) > 0; {
				n := min(step, len(b))
				held, b = append(held, b[:n]...), b[n:]
				for {
					ev, n, err := r.Next(held)
					if err != nil {
						t.Fatalf("%s: %v", name, err)
					}
					if held = held[n:]; ev.Op != 0 {
						got = append(got, string(ev.Payload))
					}
					if n == 0 {
						break
					}
				}
			}
			if strings.Join(got, ",") != tc.want {
				t.Errorf("%s in pieces of %d: %q", name, step, got)
			}
		}
	}
}

// TestDeflateBothWays: messages of every size come back as they were, with and without
// what came before, in each window; none refers further back than it may; and those that
// are alike get smaller.
func TestDeflateBothWays(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1))
	for bits := 8; bits <= 15; bits++ {
		for _, fresh := range []bool{true, false} {
			var f Flater
			var said, heard *Past
			if !fresh {
				said, heard = &Past{}, &Past{}
			}
			raw, packed := 0, 0
			for n := range 60 {
				message := []byte(strings.Repeat(fmt.Sprintf(`{"kind":"notice","room":"lock-%d"}`, n%5),
					r.IntN(20)*r.IntN(60)))
				for range r.IntN(200) {
					message = append(message, byte(r.IntN(256)))
				}
				b := f.Pack(nil, message, said, bits)
				got, err := f.Unpack(b, heard, bits, 1<<20)
				if err != nil || !bytes.Equal(got, message) {
					t.Fatalf("%d bits, fresh %v, message %d of %d bytes: %v", bits, fresh, n, len(message), err)
				}
				raw, packed = raw+len(message), packed+len(b)
				if heard != nil && heard.Size() > 1<<bits {
					t.Fatalf("%d bytes are kept", heard.Size())
				}
			}
			if packed > raw/2 {
				t.Errorf("%d bits, fresh %v: %d bytes of %d", bits, fresh, packed, raw)
			}
		}
	}
}

// TestDeflateBounds: what unfolds to more than the limit, or is nothing, ends the
// connection with the code that stands for it.
func TestDeflateBounds(t *testing.T) {
	var f Flater
	bomb := f.Pack(nil, make([]byte, 1<<20), nil, 15)
	if len(bomb) > 8<<10 {
		t.Fatalf("%d bytes are no bomb", len(bomb))
	}
	for name, tc := range map[string]struct {
		frame []byte
		code  uint16
	}{
		"a bomb":              {AppendFrame(nil, OpBinary, bomb), CloseTooBig},
		"nothing of the kind": {AppendFrame(nil, OpBinary, []byte("\xff\xff\xff")), CloseBadPayload},
		"half": {AppendFrame(nil, OpBinary, f.Pack(nil, []byte(strings.Repeat("abcdefgh", 99)), nil,
			15)[:9]), CloseBadPayload},
		"too far back":    {AppendFrame(nil, OpText, []byte("\xf2\x00\x11\x00\x00")), CloseBadPayload},
		"a control frame": {AppendFrame(nil, OpPing, []byte("x")), CloseProtocolError},
	} {
		tc.frame[0] |= CompressedBit
		r := &Reader{Limit: 1 << 16, Unpacks: &Unpacking{Flater: &Flater{}, Bits: 15}}
		_, _, err := r.Next(tc.frame)
		if v := violation("", "", tc.code); err == nil || !strings.HasPrefix(err.Error(), "websocket: ") ||
			codeOf(err) != v.Code {
			t.Errorf("%s: %v", name, err)
		}
	}
	r := &Reader{}
	if _, _, err := r.Next([]byte("\xc1\x07\xf2\x48\xcd\xc9\xc9\x07\x00")); err == nil {
		t.Error("a compressed message is taken that nobody agreed on")
	}
}

// TestDeflateAgreement: what a server may answer to an offer, and what it may not (RFC
// 7692 7.1).
func TestDeflateAgreement(t *testing.T) {
	wide, narrow := &Deflate{}, &Deflate{ServerFresh: true, ClientFresh: true, ServerBits: 10, ClientBits: 11}
	if got := narrow.Offer(); got != "permessage-deflate; server_no_context_takeover; client_no_context_takeover; "+
		"server_max_window_bits=10; client_max_window_bits=11" {
		t.Errorf("%s", got)
	}
	for _, tc := range []struct {
		offer  *Deflate
		answer string
		want   string // "" for an error, "-" for none agreed on
	}{
		{wide, "", "-"}, {nil, "", "-"}, {nil, "permessage-deflate", ""}, {wide, "permessage-frobnicate", ""},
		{wide, "permessage-deflate", "{false false 15 15}"},
		{wide, "permessage-deflate; server_no_context_takeover", "{true false 15 15}"},
		{wide, "permessage-deflate; client_max_window_bits=\"9\"; server_max_window_bits=8", "{false false 8 9}"},
		{narrow, "permessage-deflate; server_no_context_takeover; server_max_window_bits=10", "{true true 10 11}"},
		{narrow, "permessage-deflate; server_no_context_takeover; server_max_window_bits=9; client_max_window_bits=9",
			"{true true 9 9}"},
		{narrow, "permessage-deflate; server_max_window_bits=10", ""},
		{narrow, "permessage-deflate; server_no_context_takeover", ""},
		{wide, "permessage-deflate; server_max_window_bits=15", "{false false 15 15}"},
		{wide, "permessage-deflate; server_max_window_bits=16", ""},
		{wide, "permessage-deflate; server_max_window_bits=7", ""},
		{wide, "permessage-deflate; server_max_window_bits=08", ""},
		{wide, "permessage-deflate; server_max_window_bits", ""},
		{wide, "permessage-deflate; server_no_context_takeover=1", ""},
		{wide, "permessage-deflate; server_no_context_takeover; server_no_context_takeover", ""},
		{wide, "permessage-deflate; speed=9", ""}, {wide, "permessage-deflate;;", ""},
	} {
		got, err := tc.offer.Agreed(tc.answer)
		text := "-"
		if got != nil {
			text = fmt.Sprint(*got)
		}
		if (tc.want == "") != (err != nil) || err == nil && text != tc.want {
			t.Errorf("%q: %s, %v; want %q", tc.answer, text, err, tc.want)
		}
		if accepted, answer := Accept(narrow.Offer()); accepted == nil {
			t.Error("our own offer is not taken")
		} else if back, err := narrow.Agreed(answer); err != nil || *back != *accepted {
			t.Errorf("%q: %v, %v", answer, back, err)
		}
	}
}

// FuzzUnpack: whatever comes compressed, it ends, and within the limit.
func FuzzUnpack(f *testing.F) {
	f.Add([]byte("\xf2\x48\xcd\xc9\xc9\x07\x00"), []byte("Hello"))
	f.Fuzz(func(t *testing.T, packed, before []byte) {
		past := &Past{}
		past.add(before, 10)
		var fl Flater
		if out, err := fl.Unpack(packed, past, 10, 5000); err == nil && (len(out) > 5000 || past.Size() > 1024) {
			t.Errorf("%d bytes, %d kept", len(out), past.Size())
		}
	})
}

func codeOf(err error) uint16 {
	var v *wire.ProtocolError
	errors.As(err, &v)
	return v.Code
}
