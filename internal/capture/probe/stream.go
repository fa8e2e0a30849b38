package probe

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"tidepull/internal/wire/ws"
)

// unfinishedAfter is how long more of a line is waited for before what has come of it is
// shown.
const unfinishedAfter = 300 * time.Millisecond

// takeTCP takes a line, a message with its length in front, or a piece of bytes.
func (l *Line) takeTCP(held []byte) (int, error) {
	switch {
	case l.target.Prefix != "":
		return l.takeSized(held)
	case !l.target.Raw:
		return l.takeLine(held)
	case len(held) > 0:
		piece := bytes.Clone(held)
		l.say(Event{What: In, Op: "bytes", Last: true, Payload: piece, Message: piece})
	}
	return len(held), nil
}

func (l *Line) takeLine(held []byte) (int, error) {
	i := bytes.IndexByte(held[min(l.looked, len(held)):], '\n')
	if i >= 0 {
		i += l.looked
		l.looked = 0
	} else {
		l.looked = len(held)
		if len(held) > ws.DefaultLimit {
			return 0, errors.New("a line of more than 16 MiB")
		}
		return 0, nil
	}
	line := bytes.Clone(bytes.TrimSuffix(held[:i], []byte("\r")))
	l.say(Event{What: In, Op: "line", Last: true, Payload: line, Message: line})
	return i + 1, nil
}

// Prefixes are the lengths that may stand before messages over TCP.
var Prefixes = []string{"1", "2", "4", "2le", "4le", "varint"}

// takeSized takes a message with its length in front.
func (l *Line) takeSized(held []byte) (int, error) {
	size, head := sizeIn(l.target.Prefix, held)
	switch {
	case head < 0 || size > ws.DefaultLimit:
		return 0, fmt.Errorf("a length of %d bytes or more; 16 MiB are the most: is it a prefix of %s?", size,
			l.target.Prefix)
	case head == 0 || len(held) < head+int(size):
		return 0, nil
	}
	n := head + int(size)
	message := bytes.Clone(held[head:n])
	l.say(Event{What: In, Op: "message", Last: true, Payload: nonNil(message), Message: nonNil(message),
		Detail: fmt.Sprintf("behind its length in %d bytes", head)})
	return n, nil
}

// sizeIn reads the length in front, and how many bytes that has: 0 if they are not all
// there, less if it is none.
func sizeIn(prefix string, b []byte) (size uint64, head int) {
	need := map[string]int{"1": 1, "2": 2, "2le": 2, "4": 4, "4le": 4}[prefix]
	if len(b) < need {
		return 0, 0
	}
	switch prefix {
	case "1":
		size = uint64(b[0])
	case "2":
		size = uint64(binary.BigEndian.Uint16(b))
	case "2le":
		size = uint64(binary.LittleEndian.Uint16(b))
	case "4":
		size = uint64(binary.BigEndian.Uint32(b))
	case "4le":
		size = uint64(binary.LittleEndian.Uint32(b))
	default:
		return binary.Uvarint(b)
	}
	return size, need
}

// withSize puts the length in front of a message; the error says that it does not fit.
func withSize(prefix string, message []byte) (b []byte, err error) {
	n := len(message)
	switch most := map[string]int{"1": 1<<8 - 1, "2": 1<<16 - 1, "2le": 1<<16 - 1}[prefix]; {
	case most > 0 && n > most:
		return nil, fmt.Errorf("a message of %d bytes; with a length of %s byte(s) in front the most is %d", n,
			prefix[:1],
			most)
	}
	switch prefix {
	case "1":
		b = []byte{byte(n)}
	case "2":
		b = binary.BigEndian.AppendUint16(nil, uint16(n))
	case "2le":
		b = binary.LittleEndian.AppendUint16(nil, uint16(n))
	case "4":
		b = binary.BigEndian.AppendUint32(nil, uint32(n))
	case "4le":
		b = binary.LittleEndian.AppendUint32(nil, uint32(n))
	default:
		b = binary.AppendUvarint(nil, uint64(n))
	}
	return append(b, message...), nil
}

// unfinished shows what has come of a line, or message, that does not end.
func (l *Line) unfinished(held []byte, when string) {
	const most = 4 << 10
	shown, detail := held, when
	if len(shown) > most {
		shown, detail = shown[len(shown)-most:], fmt.Sprintf("%s; the last of %d bytes", when, len(held))
	}
	l.say(Event{What: In, Op: "unfinished", Payload: bytes.Clone(shown), Detail: detail})
}
