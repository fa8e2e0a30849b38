package fact

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
)

// version is that of the encoding of batches and notes, which is their first byte.
//
// Integers are varints (encoding/binary), signed ones zigzag. A batch is its promise,
// its texts, the number of its facts, the facts, and its part as JSON. A fact is its
// kind, a set of which of its fields are not 0, and these; times and clients count from
// the fact before. Most facts are arrivals of a message at one client after another:
// what is the same of them is written once, and then which of the last ones it is. An
// arrival takes some 24 bytes alone, and 10 if the message has come to another client.
const version = 3

// The fields of a fact that are written if they are not 0, as bits of a set.
const (
	hasTime = 1 << iota
	hasSince
	isAgain // all but the times and the client is that of a message that came before, which follows
	hasNumber
	hasSum
	hasPeer
	hasRoom
	hasSize
	hasText
	hasCheck
	hasWhat
	hasFlags
)

// A recent is what the arrivals of one message have in common. Both ends keep those of a batch, at the same places.
type recent struct {
	number, sum uint64
	peer        ledger.Client
	room        int32
	size        uint32
	check       int16
	what, flags uint8
	used        bool
}

type recents [64]recent

func recentOf(f *Fact) recent {
	return recent{f.Number, f.Sum, f.Peer, f.Room, f.Size, f.Check, f.What, f.Flags, true}
}

// place is where a message stands among them. Numbers of one share are apart by how many shares there are.
func place(number uint64) uint64 { return (number * 0x9e3779b97f4a7c15) >> 58 }

// keeps reports whether a fact is one of those that are kept among them.
func (f *Fact) keeps() bool { return f.Kind == Gets && !f.hasText() }

// ErrEncoding is why bytes are no batch, and no notes.
var ErrEncoding = errors.New("fact: not a known encoding")

// AppendBatch appends the encoding of a batch to dst.
func AppendBatch(dst []byte, b *Batch) []byte {
	dst = append(dst, version)
	ended := uint64(0)
	if b.Ended {
		ended = 1
	}
	dst = binary.AppendUvarint(dst, ended)
	dst = binary.AppendVarint(dst, int64(b.UpTo))
	dst = binary.AppendUvarint(dst, uint64(b.Off))
	dst = appendBytes(dst, b.Text)
	dst = binary.AppendUvarint(dst, uint64(len(b.Facts)))
	var seen recents
	last := &Fact{}
	for i := range b.Facts {
		dst = appendFact(dst, &b.Facts[i], last, &seen)
		last = &b.Facts[i]
	}
	if b.Part == nil {
		return appendBytes(dst, nil)
	}
	part, err := json.Marshal(b.Part)
	if err != nil {
		panic(fmt.Sprintf("fact: a part that is no plain data: %v", err)) // its types say that it is
	}
	return appendBytes(dst, part)
}

func appendBytes(dst, b []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(b))), b...)
}

func appendFact(dst []byte, f, last *Fact, seen *recents) []byte {
	set := uint64(0)
	again := place(f.Number)
	if f.keeps() {
		if of := recentOf(f); seen[again] == of {
			set = isAgain
		} else {
			seen[again] = of
		}
	}
	if f.Time != 0 {
		set |= hasTime
	}
	if f.Since != 0 {
		set |= hasSince
	}
	if set&isAgain == 0 {
		for i, has := range [...]bool{f.Number != 0, f.Sum != 0, f.Peer != 0, f.Room != 0, f.Size != 0, f.hasText(),
			f.Check != 0, f.What != 0, f.Flags != 0} {
			if has {
				set |= hasNumber << i
			}
		}
	}
	dst = append(dst, byte(f.Kind))
	dst = binary.AppendUvarint(dst, set)
	dst = binary.AppendVarint(dst, int64(f.At-last.At))
	dst = binary.AppendVarint(dst, int64(f.Client)-int64(last.Client))
	if set&hasTime != 0 {
		dst = binary.AppendVarint(dst, int64(f.Time-f.At))
	}
	if set&hasSince != 0 {
		dst = binary.AppendVarint(dst, int64(f.Since-f.Time))
	}
	if set&isAgain != 0 {
		return append(dst, byte(again))
	}
	if set&hasNumber != 0 {
		dst = binary.AppendUvarint(dst, f.Number)
	}
	if set&hasSum != 0 {
		dst = binary.LittleEndian.AppendUint64(dst, f.Sum)
	}
	for i, v := range [...]int64{int64(f.Peer), int64(f.Room), int64(f.Size)} {
		if set&(hasPeer<<i) != 0 {
			dst = binary.AppendVarint(dst, v)
		}
	}
	if set&hasText != 0 {
		dst = binary.AppendUvarint(dst, uint64(f.from))
		dst = binary.AppendUvarint(dst, uint64(f.to-f.from))
	}
	for i, v := range [...]int64{int64(f.Check), int64(f.What), int64(f.Flags)} {
		if set&(hasCheck<<i) != 0 {
			dst = binary.AppendVarint(dst, v)
		}
	}
	return dst
}

// ParseBatch is the opposite of AppendBatch. The batch shares nothing with b. An error
// wraps ErrEncoding.
func ParseBatch(b []byte) (Batch, error) {
	r := reader{b: b}
	r.version()
	batch := Batch{Ended: r.uvarint() == 1, UpTo: mono.Time(r.varint()),
		Off: time.Duration(r.uvarint() & math.MaxInt64)}
	batch.Text = append([]byte(nil), r.bytes()...)
	n := r.uvarint()
	if n > uint64(len(r.b)) { // each takes more than a byte
		r.failed = true
	}
	if r.failed {
		return Batch{}, ErrEncoding
	}
	batch.Facts = make([]Fact, n)
	var seen recents
	last := &Fact{}
	for i := range batch.Facts {
		r.fact(&batch.Facts[i], last, uint64(len(batch.Text)), &seen)
		last = &batch.Facts[i]
	}
	if part := r.bytes(); len(part) > 0 {
		batch.Part = new(Part)
		if err := json.Unmarshal(part, batch.Part); err != nil {
			return Batch{}, fmt.Errorf("%w: the part: %w", ErrEncoding, err)
		}
	}
	if r.failed || len(r.b) > 0 {
		return Batch{}, ErrEncoding
	}
	return batch, nil
}

// AppendNotes appends the encoding of notes to dst.
func AppendNotes(dst []byte, notes []Note) []byte {
	dst = append(dst, version)
	dst = binary.AppendUvarint(dst, uint64(len(notes)))
	for i := range notes {
		n := &notes[i]
		dst = append(dst, byte(n.Kind))
		for _, v := range [...]int64{int64(n.At), int64(n.By), int64(n.Which), int64(n.Client)} {
			dst = binary.AppendVarint(dst, v)
		}
		dst = appendBytes(dst, []byte(n.Room))
		dst = binary.AppendUvarint(dst, math.Float64bits(n.Value))
	}
	return dst
}

// ParseNotes is the opposite of AppendNotes. An error is ErrEncoding.
func ParseNotes(b []byte) ([]Note, error) {
	r := reader{b: b}
	r.version()
	n := r.uvarint()
	if r.failed || n > uint64(len(r.b)) {
		return nil, ErrEncoding
	}
	notes := make([]Note, n)
	for i := range notes {
		kind := NoteKind(r.byte())
		notes[i] = Note{Kind: kind, At: mono.Time(r.varint()), By: int32(r.varint()), Which: int32(r.varint()),
			Client: ledger.Client(r.varint()), Room: string(r.bytes()), Value: math.Float64frombits(r.uvarint())}
		r.failed = r.failed || kind >= numNotes
	}
	if r.failed || len(r.b) > 0 {
		return nil, ErrEncoding
	}
	return notes, nil
}

// A reader reads an encoding from the front; once something is missing it gives 0.
type reader struct {
	b      []byte
	failed bool
}

func (r *reader) fail() uint64 {
	r.failed, r.b = true, nil
	return 0
}

func (r *reader) version() {
	if r.byte() != version {
		r.fail()
	}
}

func (r *reader) byte() byte {
	if len(r.b) == 0 {
		return byte(r.fail())
	}
	c := r.b[0]
	r.b = r.b[1:]
	return c
}

func (r *reader) uvarint() uint64 {
	v, n := binary.Uvarint(r.b)
	if n <= 0 {
		return r.fail()
	}
	r.b = r.b[n:]
	return v
}

func (r *reader) varint() int64 {
	v, n := binary.Varint(r.b)
	if n <= 0 {
		return int64(r.fail())
	}
	r.b = r.b[n:]
	return v
}

func (r *reader) bytes() []byte {
	n := r.uvarint()
	if n > uint64(len(r.b)) {
		r.fail()
		return nil
	}
	b := r.b[:n]
	r.b = r.b[n:]
	return b
}

func (r *reader) fact(f, last *Fact, texts uint64, seen *recents) {
	f.Kind = Kind(r.byte())
	set := r.uvarint()
	f.At = last.At + mono.Time(r.varint())
	f.Client = ledger.Client(int64(last.Client) + r.varint())
	if set&hasTime != 0 {
		f.Time = f.At + mono.Time(r.varint())
	}
	if set&hasSince != 0 {
		f.Since = f.Time + mono.Time(r.varint())
	}
	if set&isAgain != 0 {
		of := &seen[r.byte()%byte(len(seen))]
		f.Number, f.Sum, f.Peer, f.Room, f.Size = of.number, of.sum, of.peer, of.room, of.size
		f.Check, f.What, f.Flags = of.check, of.what, of.flags
		r.failed = r.failed || !of.used || f.Kind != Gets
		return
	}
	if set&hasNumber != 0 {
		f.Number = r.uvarint()
	}
	if set&hasSum != 0 {
		if len(r.b) < 8 {
			r.fail()
			return
		}
		f.Sum, r.b = binary.LittleEndian.Uint64(r.b), r.b[8:]
	}
	var few [3]int64
	for i := range few {
		if set&(hasPeer<<i) != 0 {
			few[i] = r.varint()
		}
	}
	f.Peer, f.Room, f.Size = ledger.Client(few[0]), int32(few[1]), uint32(few[2])
	if set&hasText != 0 {
		from, n := r.uvarint(), r.uvarint()
		if from > texts || n > texts-from {
			r.fail()
			return
		}
		f.from, f.to = uint32(from), uint32(from+n)
	}
	few = [3]int64{}
	for i := range few {
		if set&(hasCheck<<i) != 0 {
			few[i] = r.varint()
		}
	}
	f.Check, f.What, f.Flags = int16(few[0]), uint8(few[1]), uint8(few[2])
	r.failed = r.failed || f.Kind >= numKinds
	if f.keeps() {
		seen[place(f.Number)] = recentOf(f)
	}
}
