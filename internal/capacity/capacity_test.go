package capacity

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestSearch: of 60 servers whose windows break at their capacity give or take 12 %, it is found, and the interval
// holds it as often as it says.
func TestSearch(t *testing.T) {
	for _, noise := range []float64{0.03, 0.12, 0.25} {
		r := rand.New(rand.NewPCG(1, 2))
		var wrong []float64
		inside, windows := 0, 0
		const servers = 60
		for range servers {
			truth := math.Exp(math.Log(200) + r.Float64()*math.Log(50))
			s := New(Plan{From: 100, Most: 1e6, Whole: true})
			for load, more := s.Next(); more; load, more = s.Next() {
				s.Add(load*math.Exp(noise*r.NormFloat64()) > truth)
			}
			f := Of(s.Outcomes())
			wrong = append(wrong, math.Abs(f.At/truth-1))
			if f.Low <= truth && truth <= f.High {
				inside++
			}
			windows += len(s.Outcomes())
		}
		slices.Sort(wrong)
		p95 := wrong[servers*95/100]
		t.Logf("noise %.0f %%: error p50 %.1f %%, p95 %.1f %%; the interval holds the truth in %.1f %%; %.1f windows",
			100*noise, 100*wrong[servers/2], 100*p95, 100*float64(inside)/servers, float64(windows)/servers)
		if noise == 0.12 && (p95 > 0.1 || inside < servers*90/100) || inside < servers*85/100 {
			t.Errorf("noise %.2f: error p95 %.3f, the interval holds the truth in %d of %d", noise, p95, inside,
				servers)
		}
	}
}

// TestEdges: a server that bears all there is, one that bears nothing, and whole numbers that are small.
func TestEdges(t *testing.T) {
	run := func(p Plan, breaks func(float64) bool) (Fit, []Outcome) {
		s := New(p)
		for load, more := s.Next(); more; load, more = s.Next() {
			if load > p.Most || p.Whole && load != math.Round(load) {
				t.Fatalf("load %v of at most %v", load, p.Most)
			}
			s.Add(breaks(load))
		}
		return Of(s.Outcomes()), s.Outcomes()
	}
	f, all := run(Plan{From: 10, Most: 1000, Whole: true}, func(float64) bool { return false })
	if f.At != 0 || math.Abs(f.Low-1000) > 1e-6 || !math.IsInf(f.High, 1) || len(all) != 8 {
		t.Errorf("bears all: %+v after %d windows", f, len(all))
	}
	if f, _ = run(Plan{From: 64, Most: 1000, Whole: true}, func(float64) bool { return true }); f.Low > 1 {
		t.Errorf("bears nothing: %+v", f)
	}
	if f, _ = run(Plan{From: 1, Most: 100, Whole: true}, func(x float64) bool { return x > 6 }); f.Low < 5 ||
		f.High > 8 ||
		f.At < 6 || f.At > 7 {
		t.Errorf("bears 6: %+v", f)
	}
	if f := Of(nil); f.Low != 0 || !math.IsInf(f.High, 1) {
		t.Errorf("nothing tried: %+v", f)
	}
}

// TestGrowth: of figures that grow with a power of the load, give or take 10 %, the interval holds the power.
func TestGrowth(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	inside := 0
	const fits = 2000
	for range fits {
		power, n := 0.5+2*r.Float64(), 5+r.IntN(20)
		var load, figure []float64
		for range n {
			x := math.Exp(6 * r.Float64())
			load, figure = append(load, x), append(figure, 3*math.Pow(x, power)*math.Exp(0.1*r.NormFloat64()))
		}
		g, ok := GrowthOf(load, figure)
		if !ok || g.Points != n {
			t.Fatalf("%+v, %v", g, ok)
		}
		if g.Low <= power && power <= g.High {
			inside++
		}
	}
	if inside < fits*93/100 || inside > fits*97/100 {
		t.Errorf("the interval holds the power in %d of %d", inside, fits)
	}
	if _, ok := GrowthOf([]float64{5, 5, 5, 5, 5}, []float64{1, 2, 3, 4, 5}); ok {
		t.Error("a power of one load")
	}
	g := Growth{Power: 2, Low: 1.8, High: 2.2}
	if at := g.Reaches(100, 10, 40); math.Abs(at-200) > 1e-9 {
		t.Errorf("10 at 100 comes to 40 at %v", at)
	}
}
