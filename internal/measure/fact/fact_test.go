package fact

import (
	"bytes"
	"math/rand/v2"
	"reflect"
	"testing"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/logbook"
)

// random makes a batch in which any field may be anything.
func random(r *rand.Rand) Batch {
	b := Batch{UpTo: mono.Time(r.Int64()), Ended: r.IntN(2) == 0}
	few := func(bits int) int64 {
		switch r.IntN(3) {
		case 0:
			return 0
		case 1:
			return int64(r.IntN(100))
		}
		return int64(r.Uint64()) >> (64 - bits)
	}
	at := mono.Time(0)
	for range r.IntN(50) {
		at += mono.Time(r.IntN(1 << 20))
		f := Fact{At: at, Time: mono.Time(few(64)), Since: mono.Time(few(64)), Number: uint64(few(64)),
			Sum:    uint64(few(64)),
			Client: int32(few(32)), Peer: int32(few(32)), Room: int32(few(32)), Size: uint32(few(31)),
			Check: int16(few(16)),
			Kind:  Kind(r.IntN(int(numKinds))), What: uint8(few(7)), Flags: uint8(few(7))}
		if n := len(b.Facts); n > 0 && r.IntN(2) == 0 { // the same message at another client
			f = b.Facts[r.IntN(n)]
			f.At, f.Client, f.Time = at, f.Client+int32(r.IntN(100)), at-mono.Time(r.IntN(1<<20))
			f.from, f.to = 0, 0
		}
		if r.IntN(3) > 0 {
			b.Add(f)
		} else {
			b.AddText(f, bytes.Repeat([]byte{byte(r.IntN(256))}, 1+r.IntN(40)))
		}
	}
	if r.IntN(3) == 0 {
		b.Part = &Part{Tick: r.IntN(100), Reasons: map[string]int{"refused: no": 3},
			Open: []*logbook.Entry{{At: 4, Times: logbook.Times{logbook.ToConnect: []byte{1, 2, 3}}}}}
	}
	return b
}

// TestEncoding: a batch and notes come back as they were, and of a part of their
// encoding nothing does.
func TestEncoding(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		b := random(r)
		code := AppendBatch([]byte("before"), &b)[len("before"):]
		back, err := ParseBatch(code)
		if err != nil {
			t.Fatal(err)
		}
		if len(back.Facts) != len(b.Facts) || back.UpTo != b.UpTo || back.Ended != b.Ended ||
			!bytes.Equal(back.Text, b.Text) || !reflect.DeepEqual(back.Part, b.Part) {
			t.Fatalf("%+v\nwant %+v", back, b)
		}
		for i := range b.Facts {
			if back.Facts[i] != b.Facts[i] {
				t.Fatalf("fact %d: %+v\nwant %+v", i, back.Facts[i], b.Facts[i])
			}
		}
		if cut := r.IntN(len(code)); true {
			if _, err := ParseBatch(code[:cut]); err == nil {
				t.Fatalf("the first %d of %d bytes are a batch", cut, len(code))
			}
		}
		notes := []Note{{At: 5, Kind: MayGo, Client: int32(r.Uint32()), Which: 3},
			{At: mono.Never, Kind: Members, By: -1, Room: "lock-1"}}
		code = AppendNotes(nil, notes)
		if back, err := ParseNotes(code); err != nil || !reflect.DeepEqual(back, notes) {
			t.Fatalf("%+v, %v\nwant %+v", back, err, notes)
		}
		if _, err := ParseNotes(code[:r.IntN(len(code))]); err == nil {
			t.Fatal("a part of notes is notes")
		}
	}
}

// FuzzParse: whatever the bytes, the parsers end, and what they accept is within bounds.
func FuzzParse(f *testing.F) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 5 {
		b := random(r)
		f.Add(AppendBatch(nil, &b))
	}
	f.Add(AppendNotes(nil, []Note{{Room: "lock-1"}}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if batch, err := ParseBatch(b); err == nil {
			for i := range batch.Facts {
				if fact := &batch.Facts[i]; fact.Kind >= numKinds || len(batch.TextOf(fact)) > len(b) {
					t.Fatalf("%+v", fact)
				}
			}
		}
		notes, err := ParseNotes(b)
		if err == nil && len(notes) > len(b) {
			t.Fatalf("%d notes in %d bytes", len(notes), len(b))
		}
	})
}

// TestLog appends to logs and drops from them at random, and compares each fact's text.
func TestLog(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	var log Log
	var want []string
	for range 3000 {
		switch r.IntN(3) {
		case 0:
			n := r.IntN(len(log.Facts) + 1)
			log.Drop(n)
			want = want[n:]
		case 1:
			log.Add(Fact{Client: int32(r.IntN(4))})
			want = append(want, "")
		default:
			var more Log
			for range r.IntN(3) {
				text := bytes.Repeat([]byte{byte('a' + r.IntN(26))}, 1+r.IntN(5))
				more.AddText(Fact{}, text)
				want = append(want, string(text))
			}
			log.Append(&more)
		}
		if len(log.Facts) != len(want) {
			t.Fatalf("%d facts, want %d", len(log.Facts), len(want))
		}
		for i := range want {
			if got := string(log.TextOf(&log.Facts[i])); got != want[i] {
				t.Fatalf("text %d is %q, want %q", i, got, want[i])
			}
		}
	}
	log = Log{Facts: []Fact{{At: 1, Client: 9}, {At: 2, Client: 5, Number: 1}, {At: 2, Client: 3, Number: 2},
		{At: 2, Client: 5, Number: 3}, {At: 3, Client: 1}}}
	if to := log.SortEqual(1); to != 4 || log.Facts[1].Number != 2 || log.Facts[2].Number != 1 ||
		log.Facts[3].Number != 3 {
		t.Errorf("up to %d: %+v", to, log.Facts)
	}
}
