package wire

import (
	"bytes"
	"strings"
	"testing"
)

// TestOneMessage: whatever is in a message, it comes out as one, and as it was unless it holds what ends
// messages or ends in the first part of that.
func TestOneMessage(t *testing.T) {
	var texts []string
	for of := 0; len(texts) < 1000; of++ { // of a, b and a line feed, the short ones first
		if of == 0 {
			texts = append(texts, "")
		}
		for _, c := range "ab\n" {
			texts = append(texts, texts[of]+string(c))
		}
	}
	for _, end := range []string{"\n\n", "aab", "aa", "abab", "\x00"} {
		f := &Framing{Ends: end}
		for _, text := range texts {
			b := f.Append([]byte("before"), []byte(text))
			message, n, err := f.Next(b[len("before"):], 0)
			if err != nil || n != len(b)-len("before") {
				t.Fatalf("%q, ended by %q, is sent as %q: of that %d bytes are a message", text, end, b, n)
			}
			if whole := strings.Index(text+end, end) == len(text); whole && !bytes.Equal(message, []byte(text)) {
				t.Errorf("%q, ended by %q, comes out as %q", text, end, message)
			}
		}
	}
}
