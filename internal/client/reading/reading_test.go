package reading

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"tidepull/internal/measure/mark"
	"tidepull/internal/trial/expr"
	"tidepull/internal/trial/language"
)

// harbour is a dialect with a rule of every kind; WHO is what the rule of who enters names.
const harbour = `
trial "what is said in the harbour" {}
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "board"
}
dialect "board" {
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  past {
    when = msg.kind == "log"
    each = msg.notices
    seq  = msg.seq
  }
  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    seq     = msg.seq
    payload = msg.text
  }
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
  joined {
    when = msg.kind == "joined" && WHO
    room = msg.room
    name = msg.name
  }
  gone {
    when = msg.kind == "gone"
    room = msg.room
    name = msg.name
  }
  beat {
    when   = msg.kind == "beat"
    answer = { kind = "beat" }
  }
}
feed "gauges" {
  when = msg.gauge != null
  key  = msg.gauge
  seq  = msg.seq
  time = msg.at
}
session "s" {
  connect {}
  enter {
    room    = "lock-1"
    history = 3
  }
  say {
    body    = { kind = "notice", room = room, text = payload, mark = mark }
    payload = "stands by"
  }
}
crew "pilots" {
  clients = 2
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}
`

func reader(t testing.TB, who string) (*Reader, *expr.Scope) {
	t.Helper()
	tr, err := language.Parse([]byte(strings.Replace(harbour, "WHO", who, 1)), "board.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	scope := &expr.Scope{}
	return New(tr, scope), scope
}

// as has a client with a name be the one at hand.
func as(s *expr.Scope, name string) {
	s.Vars[expr.VarName] = expr.Value{Kind: expr.String, Str: []byte(name)}
}

// words says what a message means.
func words(m *Message) string {
	var all []string
	add := func(format string, a ...any) { all = append(all, fmt.Sprintf(format, a...)) }
	for i, name := range [...]string{"history", "echo", "live", "presence", "joined", "gone", "beat"} {
		if m.Is&(History<<i) == 0 {
			continue
		}
		switch k := History << i; k {
		case History:
			add("history %v", m.Past)
		case Live:
			add("live %d in %s", m.Number.N, m.Room)
		case Presence:
			add("%g members of %s", m.Members.Said.Num, m.Members.Room)
		case Joined, Gone:
			n := &m.Notices[i-4]
			add("%s %s %s", n.Who, name, n.Room)
		default:
			add("%s", name)
		}
	}
	for _, f := range m.Feeds {
		add("feed %d: %d of %g, key %v", f.At, f.Number.N, f.Time.Num, f.Key != 0)
	}
	for marks := *m; marks.Marked; marks.NextMark() {
		add("mark %d", marks.Mark.Number)
	}
	return strings.Join(all, "; ")
}

var said = string(mark.Append(nil, mark.Mark{Run: 1, Number: 7}))
var alsoSaid = string(mark.Append(nil, mark.Mark{Run: 1, Number: 8}))

// TestMeanings reads a message of every kind, and some that are several things or none.
func TestMeanings(t *testing.T) {
	r, _ := reader(t, "true")
	for text, want := range map[string]string{
		`{"kind":"notice","room":"lock-1","seq":4,"text":"x","mark":"` + said + `"}`: "live 4 in lock-1; mark 7",
		`{"kind":"notice","room":7,"mark":"` + said + " " + alsoSaid + `"}`:          "live 0 in ; mark 7; mark 8",
		`{"kind":"log","notices":[{"seq":3},{"seq":4},{"seq":"5"},7]}`: "history [{3 true} {4 true} {0 false} {0 " +
			"false}]",
		`{"kind":"log"}`: "history []",
		`{"kind":"presence","room":"lock-1","members":12}`:         "12 members of lock-1",
		`{"kind":"joined","room":"lock-1","name":"Alder"}`:         "Alder joined lock-1",
		`{"kind":"gone","room":"lock-1","name":"Al\u0064er"}`:      "Alder gone lock-1",
		`{"kind":"gone","gauge":"quay","seq":9,"at":5,"name":"a"}`: "a gone ; feed 0: 9 of 5, key true",
		`{"kind":"beat"}`:        "beat",
		`{"kind":"else"}`:        "",
		`joined, gone, presence`: "",
		``:                       "",
	} {
		m := r.Read(Part{[]byte(text), []byte(text)}, false, true)
		r.Meet(m)
		if got := words(m); got != want {
			t.Errorf("%s means '%s', want '%s'", text, got, want)
		}
	}
	a := []byte(`{"kind":"notice","text":"ab","mark":"` + said + `"}`)
	b := []byte(`{"text":"ab","mark":"` + said + `","kind":"no"}`)
	sum := r.Read(Part{a, a}, false, false).Sum
	if other := r.Read(Part{b, b}, false, false).Sum; sum != Digest([]byte("ab")) || other != sum {
		t.Errorf("one payload has the digests %x and %x", sum, other)
	}
	if m := r.Read(Part{a, a}, true, false); m.Sum != Digest(a) {
		t.Error("of a binary message in a dialect of text the whole is not compared")
	}
}

// TestLeftOpen: a rule that names the client is read once it has met one, and again for the next; the
// others are the same whoever was there before.
func TestLeftOpen(t *testing.T) {
	r, s := reader(t, "msg.name != name")
	text := []byte(`{"kind":"joined","room":"lock-1","name":"Birch","gauge":"quay"}`)
	as(s, "Birch")
	m := r.Read(Part{text, text}, false, false)
	if got := words(m); got != "feed 0: 0 of 0, key true" {
		t.Errorf("before it has met a client it means '%s'", got)
	}
	r.Meet(m)
	if m.Is&Joined != 0 {
		t.Error("it is about the client itself, and the rule is about others")
	}
	m = r.Read(Part{text, text}, false, false)
	as(s, "Alder")
	r.Meet(m)
	if got := words(m); got != "Birch joined lock-1; feed 0: 0 of 0, key true" {
		t.Errorf("to another it means '%s'", got)
	}
	// A message that no rule can be about is not read, and means nothing of what came before.
	plain := []byte(`{"kind":"entered","gauges":1,"mark":"` + said + `"}`)
	r.payload, r.rules = false, r.rules&^payload
	if m := r.Read(Part{plain, plain}, false, false); m.Read || words(m) != "mark 7" {
		t.Errorf("unread it means '%s'", words(m))
	}
}

// TestNoAllocation: reading does not allocate once its buffers have grown.
func TestNoAllocation(t *testing.T) {
	r, _ := reader(t, "true")
	var all []Part
	for _, text := range []string{`{"kind":"notice","room":"lock-1","seq":4,"text":"x","mark":"` + said + `"}`,
		`{"kind":"joined","room":"lock-1","name":"Alder"}`, `{"kind":"presence","room":"lock-1","members":12}`} {
		all = append(all, Part{[]byte(text), []byte(text)})
	}
	if n := testing.AllocsPerRun(200, func() {
		for _, p := range all {
			r.Meet(r.Read(p, false, true))
		}
	}); n != 0 {
		t.Errorf("%v allocations for %d messages", n, len(all))
	}
}

// FuzzRead: whatever comes, reading it again means the same, whatever was read in between.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"kind":"log","notices":[{"seq":3},[],{"seq":1e99}]}`), []byte(`{"kind":"presence","members":-1}`))
	f.Add([]byte(said+said), []byte("\x00\xff{"))
	r, s := reader(f, "msg.name != name")
	f.Fuzz(func(t *testing.T, a, b []byte) {
		read := func(b []byte) string {
			m := r.Read(Part{b, b}, false, true)
			as(s, "Alder")
			r.Meet(m)
			return words(m)
		}
		kept := bytes.Clone(a)
		first := read(a)
		read(b)
		if again := read(a); again != first || !bytes.Equal(a, kept) {
			t.Fatalf("'%s' means '%s', and then '%s'", a, first, again)
		}
	})
}

func BenchmarkRead(b *testing.B) {
	r, _ := reader(b, "true")
	text := []byte(`{"kind":"notice","room":"lock-1","seq":4,"text":"stands by","mark":"` + said + `"}`)
	for b.Loop() {
		r.Meet(r.Read(Part{text, text}, false, true))
	}
}
