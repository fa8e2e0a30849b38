package meter

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// TestAgainstReference holds Hist against the reference implementation of such
// histograms: every percentile within the two's common resolution.
func TestAgainstReference(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	ref := hdrhistogram.New(64, int64(20*time.Minute), 3)
	var h, parts Hist
	for part := range 40 {
		var p Hist
		for range 2500 {
			d := time.Duration(math.Exp(r.Float64()*20 + 5)) // 150 ns to 70 s
			h.Record(d)
			p.Record(d)
			if err := ref.RecordValue(int64(d)); err != nil {
				t.Fatal(err)
			}
		}
		if part%2 == 0 {
			parts.Merge(&p)
		} else if err := parts.MergePacked(p.Pack()); err != nil {
			t.Fatal(err)
		}
	}
	if h.Count() != 100000 {
		t.Fatalf("count is %d", h.Count())
	}
	for _, q := range []float64{0, 0.001, 0.1, 0.5, 0.9, 0.99, 0.999, 0.99999, 1} {
		got, want := float64(h.Quantile(q)), float64(ref.ValueAtQuantile(q*100))
		if math.Abs(got-want) > want*0.0021+64 {
			t.Errorf("quantile %v is %v, reference %v", q, got, want)
		}
		if sum := parts.Quantile(q); sum != h.Quantile(q) {
			t.Errorf("quantile %v of the merged parts is %v, of the whole %v", q, sum, h.Quantile(q))
		}
	}
	if parts.Mean() != h.Mean() || parts.Max() != h.Max() || parts.Min() != h.Min() {
		t.Error("merging changed mean, max or min")
	}
}

func TestHistEdges(t *testing.T) {
	var h Hist
	if h.Quantile(0.5) != 0 || h.Pack() != nil || h.MergePacked(nil) != nil {
		t.Fatal("an empty histogram is not empty")
	}
	h.Record(-time.Second)
	h.Record(300 * time.Hour)
	if h.Min() != 0 || h.Max() != 300*time.Hour || h.Quantile(1) > h.Max() || h.Count() != 2 {
		t.Fatalf("min %v, max %v", h.Min(), h.Max())
	}
	for i := range numPages*pageSize - 1 {
		if index(lowest(i)) != i || index(lowest(i+1)-1) != i {
			t.Fatalf("counter %d is not its own", i)
		}
	}
	if n := testing.AllocsPerRun(100, func() { h.Record(time.Millisecond) }); n != 0 {
		t.Errorf("%v allocations", n)
	}
}

func FuzzMergePacked(f *testing.F) {
	var h Hist
	h.Record(time.Second)
	f.Add([]byte(h.Pack()))
	f.Fuzz(func(t *testing.T, b []byte) {
		var h Hist
		if h.MergePacked(b) == nil && len(b) > 0 {
			_ = h.Quantile(0.5)
			var again Hist
			if err := again.MergePacked(h.Pack()); err != nil || again.Count() != h.Count() {
				t.Fatalf("packing again: %v", err)
			}
		}
	})
}

func BenchmarkRecord(b *testing.B) {
	var h Hist
	r := rand.New(rand.NewPCG(1, 1))
	ds := make([]time.Duration, 4096)
	for i := range ds {
		ds[i] = time.Duration(r.ExpFloat64() * 3e6)
	}
	i := 0
	for b.Loop() {
		h.Record(ds[i&4095])
		i++
	}
}
