package fact

import (
	"encoding/binary"

	"tidepull/internal/measure/ledger"
)

// AppendClients writes clients one after the other, for the text of a fact.
func AppendClients(dst []byte, c ledger.Client) []byte { return binary.AppendUvarint(dst, uint64(c)) }

// Clients calls f with each of the clients in a text.
func Clients(text []byte, f func(ledger.Client)) {
	for len(text) > 0 {
		c, n := binary.Uvarint(text)
		if n <= 0 {
			return
		}
		text = text[n:]
		f(ledger.Client(c))
	}
}
