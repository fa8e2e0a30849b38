package secret_test

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"tidepull/internal/base/secret"
	"tidepull/internal/trial/expr"
	"tidepull/internal/trial/language"
)

// TestEveryForm gives secrets through the functions of the trial language that
// keep what they are given readable, and through two of them, and looks whether
// anything of the secret is left.
func TestEveryForm(t *testing.T) {
	secrets := []string{"high-water", "S3cret/+w=rd", `quo"te\back`, "pass word&more=1", "Überfahrt-Ñ", "tide",
		"line\nbreak", "<b>bold</b>"}
	readable := []string{"base64", "base64url", "hex", "json", "url", "upper", "lower", "trim", "text"}
	r := rand.New(rand.NewPCG(1, 1))
	for _, s := range secrets {
		h := secret.New([]string{s})
		t.Setenv("HARBOUR_SECRET", s)
		for _, f := range readable {
			for _, g := range append([]string{""}, readable...) {
				if g != "" && (f == "base64" || f == "base64url" || f == "hex") && (g == "upper" || g == "lower") &&
					f != "hex" {
					continue // base64 in other letters means something else
				}
				call := fmt.Sprintf(`%s("${name}${secret.s}${room}")`, f)
				if g != "" {
					call = fmt.Sprintf("%s(%s)", g, call)
				}
				before, behind := strings.Repeat("x", r.IntN(5)), strings.Repeat("y", r.IntN(5))
				text := evaluate(t, call, before, behind)
				hidden := h.Text(text)
				if !strings.Contains(hidden, secret.Dots) {
					t.Errorf("%q: %s leaves %q", s, call, hidden)
				}
			}
		}
	}
}

// evaluate gives what a template of a trial says for a client with a name and a
// room.
func evaluate(t *testing.T, call, name, room string) string {
	t.Helper()
	tr, err := language.Parse([]byte(`
trial "t" {}
secret "s" { env = "HARBOUR_SECRET" }
target "board" { websocket = "ws://127.0.0.1:1/" }
session "s" {
  connect {}
  send { body = "${`+call+`}" }
}
crew "c" {
  clients = 1
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}`), "t.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	s := &expr.Scope{}
	s.Vars[expr.VarName], s.Vars[expr.VarRoom] = expr.Str(name), expr.Str(room)
	return string(tr.Crews[0].Session.Steps[1].Body.Append(nil, s))
}

// TestBetween: secrets among other things, credentials in base64, cut texts, and
// what only looks a little like one.
func TestBetween(t *testing.T) {
	h := secret.New([]string{"high-water"})
	for text, want := range map[string]string{
		"no secret here, high tide": "no secret here, high tide",
		"a HIGH-WATER b high-water": "a ••• b •••",
		"the end is high-wa…":       "the end is •••…"[:len("the end is •••")],
		"Basic " + base64.StdEncoding.EncodeToString([]byte("harbour-master:high-water")): "",
		"": "",
	} {
		got := h.Text(text)
		if want != "" && strings.TrimSuffix(got, "…") != want || want == "" && text != "" &&
			!strings.Contains(got, secret.Dots) {
			t.Errorf("%q becomes %q, want %q", text, got, want)
		}
	}
	var none *secret.Hider
	if none.Text("high-water") != "high-water" {
		t.Error("nothing was to be hidden")
	}
}

func BenchmarkBytes(b *testing.B) {
	h := secret.New([]string{"high-water", "S3cret/+w=rd", "a-long-token-0123456789abcdef"})
	text := []byte(strings.Repeat(`{"kind":"notice","room":"lock-1","text":"gate turning"}`, 3))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		h.Bytes(text)
	}
}

func in64(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }

// TestOtherForms: what others than the language's functions make of a secret.
func TestOtherForms(t *testing.T) {
	h := secret.New([]string{"Überfahrt-Ñ & <7>", "high-water"})
	for name, text := range map[string]string{
		"escaped for HTML":         "it is &lt;b&gt;Überfahrt-Ñ &amp; &lt;7&gt;&lt;/b&gt;",
		"in ASCII":                 `{"token":"\u00dcberfahrt-\u00d1 & <7>"}`,
		"every byte":               "user=%68%69%67%68%2d%77%61%74%65%72",
		"in base64, twice, in hex": fmt.Sprintf("%x", in64(in64("high-water"))),
	} {
		if hidden := h.Text(text); !strings.Contains(hidden, secret.Dots) {
			t.Errorf("%s: %q is left", name, hidden)
		}
	}
	if hidden := secret.Of([]string{"tok-123456"}).Text("Bearer tok-123456, dG9rLTEyMzQ1Ng=="); strings.Count(hidden,
		secret.Dots) != 2 {
		t.Errorf("%q", hidden)
	}
}
