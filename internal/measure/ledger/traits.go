package ledger

import "bytes"

// Traits are what there is in the text of a message that servers are known to stumble over.
type Traits uint8

// The traits.
const (
	Described   Traits = 1 << iota // what it says is known
	BinaryType                     // it is a binary message
	BeyondASCII                    // it holds bytes above 0x7f
	Beyond16                       // and characters above U+FFFF
	Markup                         // < or &
	Control                        // control characters, as they are or as JSON writes them
	Quotes                         // quotation marks within a text, as JSON writes them
)

// TraitsOf are those of a text.
func TraitsOf(text []byte, binary bool) Traits {
	t := Described
	if binary {
		return t | BinaryType
	}
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c >= 0xf0:
			t |= BeyondASCII | Beyond16
		case c >= 0x80:
			t |= BeyondASCII
		case c < ' ' || c == 0x7f:
			t |= Control
		case c == '<' || c == '&':
			t |= Markup
		case c == '\\' && i+1 < len(text):
			switch i++; text[i] {
			case '"':
				t |= Quotes
			case 'n', 't', 'r', 'b', 'f':
				t |= Control
			case 'u':
				if bytes.HasPrefix(text[i+1:], []byte("00")) {
					t |= Control
				}
			}
		}
	}
	return t
}

// Describe says how many bytes a message has that was said, and what is in them.
func (l *Ledger) Describe(number uint64, size int, t Traits) {
	if !l.Knows(number) {
		return
	}
	if r := l.rowOf(number); r != nil {
		r.say.size, r.say.traits = int32(min(size, 1<<30)), t
	}
}
