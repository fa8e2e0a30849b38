// Package units writes figures for people: short, with their unit, and always
// the same way.
package units

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Duration writes a time with three digits and a fitting unit: "860 us",
// "17.1 ms", "1.20 s".
func Duration(d time.Duration) string { return Micros(float64(d) / 1000) }

// Between writes a time that is only known within bounds: "17.1 to 25.3 ms"; one
// that is the same to its digits at both ends as Duration does.
func Between(from, to time.Duration) string {
	a, b := Duration(from), Duration(to)
	if a == b {
		return b
	}
	if n, unit, _ := strings.Cut(a, " "); strings.HasSuffix(b, " "+unit) {
		return n + " to " + b
	}
	return a + " to " + b
}

// Micros is Duration for microseconds.
func Micros(us float64) string {
	switch {
	case math.Abs(us) < 0.0005:
		return "0"
	case us < 0:
		return "-" + Micros(-us)
	case us < 0.9995:
		return digits(1000*us) + " ns"
	case us < 999.5:
		return digits(us) + " us"
	case us < 999.5e3:
		return digits(us/1e3) + " ms"
	}
	return digits(us/1e6) + " s"
}

// Round writes a time that is a round one: "100 us", "1 ms".
func Round(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return fmt.Sprintf("%d us", d/time.Microsecond)
	case d < time.Second:
		return fmt.Sprintf("%d ms", d/time.Millisecond)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}

func digits(v float64) string {
	switch {
	case v < 9.995:
		return fmt.Sprintf("%.2f", v)
	case v < 99.95:
		return fmt.Sprintf("%.1f", v)
	}
	return fmt.Sprintf("%.0f", v)
}

// Count writes a whole number with its thousands apart: "128,400".
func Count(n int64) string {
	s, negative := strings.CutPrefix(strconv.FormatInt(n, 10), "-")
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	if negative {
		return "-" + s
	}
	return s
}

// Plural writes how many there are of something, of which the word is for one.
func Plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return Count(int64(n)) + " " + one + "s"
}

// Percent writes a share from 0 to 1.
func Percent(share float64) string {
	p := math.Round(1000*share) / 10
	return strconv.FormatFloat(p, 'f', -1, 64) + " %"
}

// Signed writes a difference in percent: "+0.31 %"; one that is nothing to its digits has no sign.
func Signed(percent float64) string {
	if text := fmt.Sprintf("%+.2f", percent); text != "-0.00" && text != "+0.00" {
		return text + " %"
	}
	return "0 %"
}

// Bytes writes a number of bytes: "3.1 KiB".
func Bytes(n float64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	i := 0
	for n = max(0, n); n >= 1024 && i < len(units)-1; i++ {
		n /= 1024
	}
	if i > 0 && n < 9.95 {
		return fmt.Sprintf("%.1f %s", n, units[i])
	}
	return fmt.Sprintf("%.0f %s", n, units[i])
}

// Figure writes a figure: a time in microseconds where duration is set, a plain
// number elsewhere.
func Figure(duration bool, v float64) string {
	if duration {
		return Micros(v)
	}
	return fmt.Sprintf("%.0f", v)
}

// Clock writes how far a run has come: "0:42", "1:02:03".
func Clock(d time.Duration) string {
	s := int(d / time.Second)
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

// Instant writes a time of a run to the millisecond: "1:02.345".
func Instant(at time.Duration) string {
	return fmt.Sprintf("%s.%03d", Clock(at), at%time.Second/time.Millisecond)
}

// ThreeDigits writes a number with three digits that count: "0.25", "91", "7,430", "117,000".
func ThreeDigits(v float64) string {
	if v >= 100 {
		unit := math.Pow(10, math.Floor(math.Log10(v))-2)
		return Count(int64(math.Round(v/unit) * unit))
	}
	return strconv.FormatFloat(v, 'g', 3, 64)
}
