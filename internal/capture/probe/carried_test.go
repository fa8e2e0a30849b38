package probe

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"tidepull/internal/capture/replay"
	"tidepull/internal/standin"
	"tidepull/internal/trial/language"
)

// TestCarried: by hand over HTTP in each of its ways, and in datagrams, one can say
// something and hear it; what was done is a trial on the same way.
func TestCarried(t *testing.T) {
	s, err := standin.Start(standin.Config{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	for address, want := range map[string]string{
		"events+http://%v/events?client=a":       "events  = \"http://",
		"stream+http://%v/lines?client=b":        "stream  = \"http://",
		"polling+http://%v/poll?client=c&wait=0": "every   = \"50ms\"",
		"udp://%v":                               "udp     = \"udp://",
	} {
		target := Target{URL: fmt.Sprintf(address, s.Addr)}
		if strings.HasPrefix(address, "polling") {
			target.Every, target.Post = 50*time.Millisecond, "/poll?client=c&wait=0"
		}
		text, events, err := run(t, target, 5*time.Second,
			Action{Do: "send", Text: `{"kind":"name","name":"` + address[:3] + `"}`}, Action{Do: "expect",
				Text: "named"},
			Action{Do: "send", Text: `{"kind":"enter","room":"lock-` + address[:3] + `"}`}, Action{Do: "expect",
				Text: "entered"},
			Action{Do: "send", Text: `{"kind":"notice","room":"lock-` + address[:3] + `","text":"ébb"}`},
			Action{Do: "expect", Text: "ébb"}, Action{Do: "close", Text: "1000"})
		if err != nil || strings.Count(text, "ébb") != 2 || !strings.Contains(text, "(by you)") {
			t.Errorf("%s: %v\n%s", address, err, text)
		}
		session := replay.SessionOf(Recording(target, events))
		if tr, err := language.Parse([]byte(session), "kept.trial.hcl", language.Options{}); err != nil ||
			len(tr.Crews) != 1 || !strings.Contains(session, want) {
			t.Errorf("%s: %v\n%s", address, err, session)
		}
	}
}

// TestNotCarried: what is not as it should be is said in words, and what was asked shows.
func TestNotCarried(t *testing.T) {
	odd := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, "http://elsewhere.test/", http.StatusFound)
		case "/page":
			fmt.Fprint(w, "<p>The harbour board.</p>")
		case "/breaks":
			w.Header().Set("Content-Type", "text/event-stream")
			fmt.Fprint(w, "data: one\n\nda")
		case "/rude":
			w.Header().Set("Content-Type", "text/event-stream")
			fmt.Fprint(w, "data: \x1b[2J\n\n")
			w.(http.Flusher).Flush()
			io.Copy(io.Discard, r.Body)
			<-r.Context().Done()
		default:
			http.NotFound(w, r)
		}
	}))
	defer odd.Close()
	closed, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := closed.LocalAddr().String()
	closed.Close()
	at := "http" + strings.TrimPrefix(odd.URL, "http")
	for address, want := range map[string]string{
		"events+" + at + "/none":          "REFUSED: answered 404 Not Found",
		"events+" + at + "/page":          "text/html",
		"polling+" + at + "/away":         "REFUSED",
		"events+" + at + "/breaks":        "<- text  3 B",
		"events+" + at + "/rude":          "␛[2J",
		"udp://" + nobody:                 "nobody listens at " + nobody,
		"stream+http://" + nobody + "/":   "nobody listens at " + nobody,
		"events+http://nowhere.invalid/x": "is not known",
	} {
		text, _, _ := run(t, Target{URL: address}, 300*time.Millisecond, Action{Do: "send", Text: "hello"},
			Action{Do: "pause", Text: "100ms"})
		if !strings.Contains(text, want) || strings.Contains(text, "\x1b") {
			t.Errorf("%s: it does not say %q:\n%s", address, want, text)
		}
	}
}
