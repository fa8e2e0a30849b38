package units

import "testing"

func TestFigures(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 128400: "128,400", -1234567: "-1,234,567",
		-100: "-100"} {
		if got := Count(n); got != want {
			t.Errorf("%d is written %s, want %s", n, got, want)
		}
	}
	for n, want := range map[float64]string{-3: "0 B", 3: "3 B", 1023: "1023 B", 3174: "3.1 KiB", 10240: "10 KiB",
		82854982: "79 MiB", 5e9: "4.7 GiB"} {
		if got := Bytes(n); got != want {
			t.Errorf("%g bytes are written %s, want %s", n, got, want)
		}
	}
}
