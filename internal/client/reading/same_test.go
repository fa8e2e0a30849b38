package reading

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"tidepull/internal/measure/mark"
	"tidepull/internal/trial/expr"
	"tidepull/internal/trial/language"
)

// TestSame: a copy of a message that was read means what it meant, whatever came in between; a message of which some
// byte is another one, or that is more than a delivery, is read afresh.
func TestSame(t *testing.T) {
	const plain = `
trial "t" {}
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "board"
}
dialect "board" {
  heard {
    when    = msg.kind == "notice"
    payload = msg.text
  }
  gone {
    when = msg.kind == "gone"
    name = msg.name
  }
}
session "s" {
  connect {}
  say {
    reaches = "everyone"
    payload = "berth ${mark}"
    body    = { kind = "notice", text = payload }
  }
}
crew "pilots" {
  clients = 2
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}`
	tr, err := language.Parse([]byte(plain), "same.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	kept, fresh := New(tr, &expr.Scope{}), New(tr, &expr.Scope{})
	token := func(n int) string {
		return string(mark.Append(nil, mark.Mark{Run: 1, Number: uint64(n), Sender: 3, Time: 5}))
	}
	var all [][]byte
	for n := range 40 {
		all = append(all, fmt.Appendf(nil, `{"kind":"notice","text":"berth %s"}`, token(n)),
			fmt.Appendf(nil, `{"kind":"gone","name":"pilot-1","text":"%s"}`, token(n)),
			fmt.Appendf(nil, `{"kind":"notice","text":"%s %s"}`, token(n), token(n+1)),
			fmt.Appendf(nil, `{"kind":"notice","text":"berth %d"}`, n))
	}
	r, hits := rand.New(rand.NewPCG(1, 2)), 0
	read := func(by *Reader, text []byte, binary bool) string {
		m := by.Same(text, binary)
		if m == nil {
			m = by.Read(by.Part(text), binary, false)
		} else {
			hits++
		}
		says := fmt.Sprintf("%v %v %x %q %v", m.Is, m.Binary, m.Sum, m.Compared, len(m.Text))
		for ; m.Marked; m.NextMark() {
			says += fmt.Sprint(m.Mark)
		}
		return says
	}
	for range 5000 {
		text := bytes.Clone(all[r.IntN(len(all))])
		if r.IntN(10) == 0 {
			text[r.IntN(len(text))] ^= 1
		}
		binary := r.IntN(10) == 0
		fresh.newest.slots = nil
		want := read(fresh, text, binary)
		if got := read(kept, text, binary); got != want {
			t.Fatalf("%s:\n%s, read afresh\n%s", text, got, want)
		}
		clear(text) // the bytes are their owner's
	}
	if hits < 500 || hits > 1500 {
		t.Errorf("%d of 5,000 were known", hits)
	}
}
