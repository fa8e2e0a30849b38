// Package wire holds what the protocol packages below it share: the error they
// report when the other side breaks a protocol.
package wire

import "fmt"

// A ProtocolError says which rule of a protocol the other side broke.
type ProtocolError struct {
	Protocol string // "websocket", "http"
	Rule     string // what was wrong, in words
	Section  string // where the standard says so, such as "RFC 6455 5.5"
	Code     uint16 // the close code that answers it, 0 if there is none
}

func (e *ProtocolError) Error() string {
	return fmt.Sprintf("%s: %s (%s)", e.Protocol, e.Rule, e.Section)
}
