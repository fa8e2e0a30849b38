package language_test

import (
	"strings"
	"testing"

	"tidepull/internal/trial/language"
)

// TestPartsAreSet: what is made of a trial's parts has the values that --set gives to variables, whatever they are.
func TestPartsAreSet(t *testing.T) {
	const head = `trial "board" {}
tide {
  flood "100%" { over = "1s" }
}
`
	const src = head + `variable "port" { default = 7411 }
variable "who" { default = "pilot" }
variable "tls" { default = false }
target "board" { websocket = "ws://127.0.0.1:${var.port}/live?as=${var.who}" }
session "watch" {
  connect {}
}
crew "pilots" {
  clients = 1
  session = session.watch
}
`
	parts, err := language.PartsOf([]byte(src), "a.trial.hcl", nil)
	if err != nil {
		t.Fatal(err)
	}
	if shared := parts.Shared(); !strings.Contains(shared, "{ default = 7411 }") {
		t.Errorf("nothing is set: %s", shared)
	}
	parts.Set(map[string]string{"port": "9", "who": "a-${c}-%{d}"})
	_, doing, _ := strings.Cut(src, "session")
	of, err := language.Parse([]byte(head+parts.Shared()+"\nsession"+doing), "b.trial.hcl", language.Options{})
	if err != nil {
		t.Fatalf("%v\n%s", err, parts.Shared())
	}
	if want := "ws://127.0.0.1:9/live?as=a-${c}-%{d}"; of.Target.Address != want {
		t.Errorf("%q, and not %q", of.Target.Address, want)
	}
}
