package mark

import (
	"bytes"
	"math/rand/v2"
	"testing"
	"time"

	"tidepull/internal/testkit/cost"
)

func TestFind(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		m := Mark{r.Uint32N(1 << runBits), r.Uint32N(1 << roomBits), r.Uint32N(1 << senderBits),
			r.Uint64N(1 << numberBits), r.Int64N(1 << timeBits)}
		token := Append(nil, m)
		if len(token) != Len {
			t.Fatalf("mark has %d bytes, want %d", len(token), Len)
		}
		for _, body := range [][]byte{
			token,
			[]byte(`{"text":"gate turning ` + string(token) + `, stand by"}`),
			bytes.ToUpper([]byte("tpmktpmk-" + string(token))),
			[]byte(`tpmk` + string(token) + string(token)),
		} {
			got, end := Find(body)
			if got != m || end == 0 {
				t.Fatalf("Find(%s) = %+v, %d; want %+v", body, got, end, m)
			}
		}
		broken := bytes.Clone(token)
		i := len(prefix) + r.IntN(Len-len(prefix))
		broken[i] = alphabet[(values[broken[i]]+1+int8(r.IntN(31)))%32]
		if got, end := Find(broken); end != 0 && got == m {
			t.Fatalf("a mark changed at %d was read as the same", i)
		}
		if _, end := Find(token[:Len-1]); end != 0 {
			t.Fatal("a cut mark was found")
		}
	}
}

func FuzzFind(f *testing.F) {
	f.Add([]byte("a tpmk b"))
	f.Add(Append([]byte("x"), Mark{Run: 1, Number: 2}))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, end := Find(b)
		if end == 0 {
			return
		}
		if again := Append(nil, m); !bytes.EqualFold(again, b[end-Len:end]) {
			t.Fatalf("read %+v from %q, which is written %q", m, b[end-Len:end], again)
		}
	})
}

func TestNoAllocation(t *testing.T) {
	buf := make([]byte, 0, 256)
	if n := testing.AllocsPerRun(100, func() {
		buf = Append(append(buf[:0], `{"text":"berth 4 is free `...), Mark{1, 2, 3, 4, 5})
		if _, end := Find(buf); end == 0 {
			t.Fatal("not found")
		}
	}); n != 0 {
		t.Fatalf("%v allocations, want 0", n)
	}
}

// TestScanner: going through a text once finds the marks that looking for each
// form again from behind the last one does, whatever stands between them, and does
// not cost the square of their number.
func TestScanner(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for range 300 {
		var b []byte
		want := 0
		for range r.IntN(12) {
			m := Mark{Run: r.Uint32(), Room: r.Uint32(), Sender: r.Uint32(), Number: r.Uint64(), Time: r.Int64()}
			switch r.IntN(5) {
			case 0:
				b = Append(b, m)
				want++
			case 1:
				b = append(b, bytes.ToUpper(Append(nil, m))...)
				want++
			case 2:
				b = AppendBytes(b, m)
				want++
			case 3:
				b = append(b, "tpmkTPMK\xf1tp\x9d"...)
			default:
				b = append(b, "gate turning "...)
			}
		}
		got := 0
		for s, end := In(b), 1; end > 0; {
			if _, end = s.Next(); end > 0 {
				got++
			}
		}
		if got != want {
			t.Fatalf("%d marks in %q, want %d", got, b, want)
		}
	}
	takes := func(n int) time.Duration {
		b := bytes.ToUpper(bytes.Repeat(append(Append(nil, Mark{Run: 1, Number: 5}), ' '), n))
		best := time.Hour
		for range 3 {
			best = min(best, cost.Of(func() {
				for s, end := In(b), 1; end > 0; {
					_, end = s.Next()
				}
			}))
		}
		return best
	}
	if small, large := takes(2000), takes(64_000); large > 200*small {
		t.Errorf("64,000 marks cost %v, 2,000 %v", large, small)
	}
}
