package language

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/agext/levenshtein"
	"github.com/hashicorp/hcl/v2"
	"github.com/zclconf/go-cty/cty"
)

// constant reads an attribute that must be a fixed value of a type.
func (r *reader) constant(a *hcl.Attribute, want cty.Type, what string) (cty.Value, bool) {
	v, diags := a.Expr.Value(&r.vars)
	if diags.HasErrors() {
		r.fail(a.Expr.Range(), "%q must be a fixed %s; nothing is known here but %s", a.Name, what, r.known())
		return v, false
	}
	if !v.IsKnown() || v.IsNull() || v.Type() != want {
		r.fail(a.Expr.Range(), "%q must be a %s", a.Name, what)
		return v, false
	}
	return v, true
}

// duration reads a duration that is more than 0.
func (r *reader) duration(a *hcl.Attribute, fallback time.Duration) time.Duration {
	return r.durationFrom(1, a, fallback)
}

// durationFrom reads a duration that has a least.
func (r *reader) durationFrom(least time.Duration, a *hcl.Attribute, fallback time.Duration) time.Duration {
	if a == nil {
		return fallback
	}
	v, ok := r.constant(a, cty.String, formDuration)
	if !ok {
		return fallback
	}
	d, err := time.ParseDuration(v.AsString())
	if tooLong(v.AsString(), d, err) {
		r.fail(a.Expr.Range(), `%q is too long: a time here is at most %v`, v.AsString(), longest)
		return fallback
	}
	if err != nil || d < least {
		r.fail(a.Expr.Range(), `%q is not a %s`, v.AsString(), formDuration)
		return fallback
	}
	return d
}

// longest is the longest time that a trial can name: more than a year. Sums of some of them do not overflow.
const longest = 10_000 * time.Hour

// tooLong reports whether a text is a time, and one that is too long.
func tooLong(text string, d time.Duration, err error) bool {
	if err == nil {
		return d > longest
	}
	number, unit := strings.TrimRight(text, "hmsuµn"), strings.TrimLeft(text, "0123456789.")
	_, wrong := strconv.ParseFloat(number, 64)
	return wrong == nil && (unit == "h" || unit == "m" || unit == "s")
}

// whole reads a whole number within bounds.
func (r *reader) whole(a *hcl.Attribute, least, most, fallback int) int {
	if a == nil {
		return fallback
	}
	v, ok := r.constant(a, cty.Number, "whole number")
	if !ok {
		return fallback
	}
	f, _ := v.AsBigFloat().Float64()
	if f != math.Trunc(f) || f < float64(least) || f > float64(most) {
		r.fail(a.Expr.Range(), "%q must be a whole number from %d to %d", a.Name, least, most)
		return fallback
	}
	return int(f)
}

// number reads a number within bounds.
func (r *reader) number(a *hcl.Attribute, least, most, fallback float64) float64 {
	if a == nil {
		return fallback
	}
	v, ok := r.constant(a, cty.Number, formNumber)
	if !ok {
		return fallback
	}
	f, _ := v.AsBigFloat().Float64()
	if !(f >= least && f <= most) {
		r.fail(a.Expr.Range(), "%q must be a number from %g to %g", a.Name, least, most)
		return fallback
	}
	return f
}

// yes reads true or false; false if it is not given.
func (r *reader) yes(a *hcl.Attribute) bool {
	if a == nil {
		return false
	}
	v, ok := r.constant(a, cty.Bool, formYes)
	return ok && v.True()
}

// interval reads a rate, such as "100/s", as the interval between two.
func (r *reader) interval(a *hcl.Attribute) time.Duration {
	text := r.text(a, "1/s")
	number, unit, _ := strings.Cut(text, "/")
	n, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	span := map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour}[strings.TrimSpace(unit)]
	if err != nil || !(n > 0) || span == 0 || n > 1e7 {
		r.fail(a.Expr.Range(), `%q is not a rate, such as "100/s" or "3/m"`, text)
		return time.Second
	}
	return max(1, time.Duration(float64(span)/n))
}

// known names the variables, for messages.
func (r *reader) known() string {
	var names []string
	for _, b := range r.blocks["variable"] {
		names = append(names, "var."+b.Labels[0])
	}
	if len(names) == 0 {
		return "variables, of which the trial has none"
	}
	return strings.Join(names, ", ")
}

// text gives the text of an attribute, or another one if it is not given.
func (r *reader) text(a *hcl.Attribute, fallback string) string {
	if a == nil {
		return fallback
	}
	v, ok := r.constant(a, cty.String, formText)
	if !ok {
		return fallback
	}
	return v.AsString()
}

// share reads a percentage as a number from 0 to 1.
func (r *reader) share(s string, at hcl.Range) float64 {
	p, err := strconv.ParseFloat(strings.TrimSuffix(s, "%"), 64)
	if err != nil || !strings.HasSuffix(s, "%") || !(p >= 0 && p <= 100) {
		r.fail(at, `%q is not a %s, from "0%%" to "100%%"`, s, formShare)
		return 0
	}
	return p / 100
}

// nearest says which of the known words was probably meant, as the end of a
// message.
func nearest(word string, known []string) string {
	best, distance := "", 3
	for _, k := range known {
		if d := levenshtein.Distance(word, k, nil); d < distance && d < len(k) {
			best, distance = k, d
		}
	}
	if best == "" {
		return ""
	}
	return `; did you mean "` + best + `"?`
}

// oneOf reads a text that must be one of some words, and returns its index.
func (r *reader) oneOf(a *hcl.Attribute, words ...string) int {
	if a == nil {
		return 0
	}
	v, ok := r.constant(a, cty.String, "text")
	if !ok {
		return 0
	}
	for i, w := range words {
		if v.AsString() == w {
			return i
		}
	}
	shown := quotedList(words[:min(len(words), mostShown)])
	if more := len(words) - mostShown; more > 0 {
		shown += fmt.Sprintf(" and %d more", more)
	}
	r.fail(a.Expr.Range(), "%q is none of %s%s", v.AsString(), shown, nearest(v.AsString(), words))
	return 0
}

// mostShown is how many words an error lists at most.
const mostShown = 20

func quotedList(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = strconv.Quote(w)
	}
	return strings.Join(quoted, ", ")
}
