package play

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/recording"
	"tidepull/internal/capture/relay"
	"tidepull/internal/capture/replay"
	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire/http1"
)

func serve(t *testing.T, cfg standin.Config) *standin.Server {
	t.Helper()
	s, err := standin.Start(cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	return s
}

// byHand is a session of a pilot on the harbour board, recorded through the
// relay: a token, a name, a room, notices to all and a whisper to itself.
// Over is "tcp" or "udp" if it is no WebSocket.
func byHand(t *testing.T, s *standin.Server, over string) *recording.Recording {
	t.Helper()
	rec := &recording.Recording{Version: 1, Made: time.Now().Format(time.RFC3339), Target: s.URL()}
	if over == "udp" {
		rec.Target = fmt.Sprintf("udp://%v", s.Datagrams)
	}
	r, err := relay.Start(relay.Options{Listen: "127.0.0.1:0", To: rec.Target}, func(e recording.Entry) error {
		rec.Entries = append(rec.Entries, e)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	addr := r.Addr.String()
	target := probe.Target{URL: over + "://" + addr}
	if over != "udp" {
		token := tokenFor(t, addr)
		if over == "" {
			target = probe.Target{URL: "ws://" + addr + "/live",
				Fields: []http1.Field{{Name: "Authorization", Value: "Bearer " + token}}}
		}
	}
	var actions []probe.Action
	expect := func(what string) { actions = append(actions, probe.Action{Do: "expect", Text: what}) }
	send := func(what string) { actions = append(actions, probe.Action{Do: "send", Text: what}) }
	if over == "" {
		expect("welcome")
	}
	send(`{"kind":"name","name":"Alder"}`)
	expect("named")
	send(`{"kind":"enter","room":"lock-3"}`)
	expect("entered")
	expect("presence")
	actions = append(actions, probe.Action{Do: "pause", Text: "400ms"})
	for i := range 2 {
		send(fmt.Sprintf(`{"kind":"notice","room":"lock-3","text":"berth %d for %s, said at %s"}`, i, "Alder",
			time.Now().UTC().Format(time.RFC3339)))
		expect("berth")
	}
	send(`{"kind":"whisper","to":"Alder","text":"your berth is free"}`)
	expect(`"kind":"whisper"`)
	if over == "udp" { // nobody hears that it goes
		send(`{"kind":"bye"}`)
		actions = append(actions, probe.Action{Do: "pause", Text: "100ms"})
	}
	if err := probe.Run(target, actions, 5*time.Second, func(probe.Event) {}); err != nil {
		t.Fatal(err)
	}
	if err := r.Stop(); err != nil {
		t.Fatal(err)
	}
	return rec
}

// tokenFor logs in.
func tokenFor(t *testing.T, addr string) string {
	t.Helper()
	resp, err := http.PostForm("http://"+addr+"/token", url.Values{"user": {"Alder"}, "password": {"low-water"}})
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var given struct{ Token string }
	if err := json.NewDecoder(resp.Body).Decode(&given); err != nil || given.Token == "" {
		t.Fatalf("no token: %v", err)
	}
	return given.Token
}

func TestReplay(t *testing.T) {
	rec := byHand(t, serve(t, standin.Config{Login: true, History: -1}), "")
	plan, err := replay.Make(rec, replay.Options{})
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]string{}
	for _, g := range plan.Guesses {
		kinds[g.Kind] += g.Becomes + " "
	}
	if len(plan.Actors) != 1 || kinds["name"] != "name " || kinds["given"] != "my.token " {
		t.Fatalf("%d actors, guesses %+v", len(plan.Actors), plan.Guesses)
	}
	for name, tc := range map[string]struct {
		server standin.Config
		copies int
		want   string // kinds of difference
	}{
		"the same server": {standin.Config{Login: true, History: -1}, 1, ""},
		"five copies":     {standin.Config{Login: true, History: -1}, 5, ""},
		"messages are lost": {standin.Config{Login: true, History: -1, Switches: board.Switches{Lose: 1}}, 1,
			replay.Missing},
		"messages come twice": {standin.Config{Login: true, History: -1, Switches: board.Switches{Double: 1}}, 1,
			replay.More},
		"messages come late": {standin.Config{Login: true, History: -1,
			Switches: board.Switches{Hold: 450 * time.Millisecond}}, 1, replay.Later},
		"long texts are refused":  {standin.Config{Login: true, History: -1, MaxText: 20}, 1, replay.Missing},
		"the log-in is not there": {standin.Config{History: -1, Denied: []string{"lock-3"}}, 1, replay.Missing},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := serve(t, tc.server)
			var verdicts []string
			for range 2 { // twice the same
				r, err := Run(context.Background(), plan,
					Options{To: s.URL(), Copies: tc.copies, Speed: 2, Within: 800 * time.Millisecond})
				if err != nil {
					t.Fatal(err)
				}
				verdict, same := "", true
				for _, g := range r.Groups {
					switch {
					case !g.Counts:
					case g.Kind != replay.Later:
						verdict, same = verdict+fmt.Sprintf(", %s %s %d", g.Kind, g.What, g.Times), false
					case tc.want == replay.Later: // how many there are is this machine's doing, too
						verdict, same = replay.Later, false
					}
				}
				verdicts = append(verdicts, verdict)
				if tc.want == replay.Later && r.StoodStill > 60*time.Millisecond {
					t.Skipf("the machine stood still for %v", r.StoodStill)
				}
				if (tc.want == "") != same || !strings.Contains(verdict, tc.want) || tc.want == "" &&
					r.Expected != tc.copies*heard(plan) {
					t.Errorf("%s; %+v", verdict, r.Groups)
				}
			}
			if verdicts[0] != verdicts[1] {
				t.Errorf("first %s\nthen  %s", verdicts[0], verdicts[1])
			}
		})
	}
	ignoring(t, plan)
}

// ignoring checks that differences which may be do not count.
func ignoring(t *testing.T, plan *replay.Plan) {
	s := serve(t, standin.Config{Login: true, History: -1, Switches: board.Switches{Lose: 1}})
	r, err := Run(context.Background(), plan, Options{To: s.URL(), Speed: 2, Within: 500 * time.Millisecond,
		Ignore: []*regexp.Regexp{regexp.MustCompile("notice|whisper")}})
	if err != nil || !r.Same || r.Ignored == 0 || !r.Compared {
		t.Errorf("with what is lost ignored: %+v, %v", r, err)
	}
}

func heard(p *replay.Plan) (n int) {
	for _, s := range p.Actors[0].Steps {
		if s.Do == replay.Hear || s.Do == replay.Ask {
			n++
		}
	}
	return n
}

// TestNoWebSocket replays what was said in lines over TCP, and in datagrams.
func TestNoWebSocket(t *testing.T) {
	for over, kind := range map[string]trial.Kind{"tcp": trial.OverTCP, "udp": trial.OverUDP} {
		s := serve(t, standin.Config{History: -1})
		plan, err := replay.Make(byHand(t, s, over), replay.Options{Keep: []string{"Alder"}})
		if err != nil || len(plan.Actors) != 1 || over == "tcp" && plan.Actors[0].Speech != replay.Lines {
			t.Fatalf("%+v, %v", plan, err)
		}
		r, err := Run(context.Background(), plan, Options{To: over + "://" + s.Addr.String(), Speed: 5})
		if err != nil || !r.Same {
			t.Errorf("%s: %+v, %v", over, r, err)
		}
		text := plan.Trial("lines", 5)
		tr, err := language.Parse([]byte(text), "t", language.Options{})
		if err != nil || tr.Target.Routes[0].Kind != kind {
			t.Fatalf("%s: %v\n%s", over, err, text)
		}
		again, err := run.Start(context.Background(), run.Options{Trial: tr})
		if err != nil {
			t.Fatal(err)
		}
		if sum := run.Summarise(again.Wait()); sum.Verdict == run.Broken || sum.Connections.Opened != 1 ||
			len(sum.Checks) < 4 {
			t.Errorf("%s: %s: %+v %+v %v\n%s", over, sum.Verdict, sum.Connections, sum.Checks, sum.Reasons, text)
		}
	}
}

// TestAsTrial writes a recording as a trial, which the language reads and the
// engine carries out with fifty clients.
func TestAsTrial(t *testing.T) {
	t.Parallel()
	s := serve(t, standin.Config{Login: true, History: -1})
	plan, err := replay.Make(byHand(t, s, ""), replay.Options{})
	if err != nil {
		t.Fatal(err)
	}
	text := plan.Trial("by hand", 4)
	for _, part := range []string{`"Alder" becomes name`, `capture = {`, `my.token`, `when = msg.kind == "welcome"`,
		`timestamp()`} {
		if !strings.Contains(strings.Join(strings.Fields(text), " "), part) {
			t.Errorf("there is no %s in\n%s", part, text)
		}
	}
	again, err := language.Format([]byte(text), "t")
	if err != nil || !bytes.Equal(again, []byte(text)) {
		t.Errorf("it is not laid out as it should be: %v", err)
	}
	fifty := strings.Replace(text, "clients = 1\n", "clients = 50\n", 1)
	tr, err := language.Parse([]byte(fifty), "t", language.Options{Target: s.URL()})
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	r, err := run.Start(context.Background(), run.Options{Trial: tr})
	if err != nil {
		t.Fatal(err)
	}
	sum := run.Summarise(r.Wait())
	if sum.Verdict == run.Broken || sum.Connections.Opened != 50 || len(sum.Checks) < 6 {
		t.Errorf("%s: %+v %+v %v", sum.Verdict, sum.Connections, sum.Checks, sum.Reasons)
	}
	for _, c := range sum.Checks {
		if c.Failed > 0 {
			t.Errorf("%+v", c)
		}
	}
}

// FuzzAsTrial: whatever a recording holds, the trial made of it is one that can
// be read.
func FuzzAsTrial(f *testing.F) {
	f.Add("{\"kind\":\"n\u00e9 ${x} %{y} \\\"\",\"list\":[1,{\"a\":null}],\"12\":\"b-7712\"}",
		`{"kind":"welcome","id":"b-7712"}`, "/live?token=b-7712")
	f.Add("name Alder\x00\u2028", "\xff\xfe", "/")
	f.Fuzz(func(t *testing.T, said, heard, path string) {
		if !strings.HasPrefix(path, "/") || strings.ContainsAny(path, " \r\n") {
			return
		}
		up := []http1.Field{{Name: "Upgrade", Value: "websocket"}, {Name: "Connection", Value: "Upgrade"},
			{Name: "X-Said", Value: said}}
		rec := &recording.Recording{Version: 1, Target: "ws://127.0.0.1:1" + path}
		for i, e := range []recording.Entry{
			{What: recording.Head, From: recording.Client, Start: "GET " + path + " HTTP/1.1", Fields: up},
			{What: recording.Head, From: recording.Server, Start: "101 Switching", Fields: up},
			{What: recording.Message, From: recording.Server, Kind: "text"},
			{What: recording.Message, From: recording.Client, Kind: "text"},
			{What: recording.Message, From: recording.Server, Kind: "text"},
			{What: recording.Close, From: recording.Client, Code: 1000, Text: said},
		} {
			e.At, e.Conn = int64(i)*1e6, 1
			if e.What == recording.Message {
				e.SetPayload([]byte(map[string]string{recording.Client: said, recording.Server: heard}[e.From]))
			}
			rec.Entries = append(rec.Entries, e)
		}
		plan, err := replay.Make(rec, replay.Options{})
		if err != nil {
			t.Fatal(err)
		}
		text := plan.Trial(said, 1)
		if _, err := language.Parse([]byte(text), "t", language.Options{Target: "ws://127.0.0.1:1/"}); err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
	})
}

// TestEventStream records a client that follows the board's event stream and
// publishes, and replays it: against the same board, and against one that loses
// everything.
func TestEventStream(t *testing.T) {
	t.Parallel()
	s := serve(t, standin.Config{History: -1})
	room := visitRoom(t, s) // so that there is one
	rec := &recording.Recording{Version: 1, Made: time.Now().Format(time.RFC3339), Target: s.URL()}
	r, err := relay.Start(relay.Options{Listen: "127.0.0.1:0", To: s.URL()}, func(e recording.Entry) error {
		rec.Entries = append(rec.Entries, e)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	base := "http://" + r.Addr.String()
	resp, err := http.Get(base + "/stream?room=" + room)
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(resp.Body)
	until := func(what string) {
		for lines.Scan() {
			if strings.Contains(lines.Text(), what) {
				return
			}
		}
		t.Fatalf("the stream ends before %s: %v", what, lines.Err())
	}
	until("presence")
	for i := range 3 {
		answer, err := http.Post(base+"/publish", "application/json",
			strings.NewReader(fmt.Sprintf(`{"room":%q,"text":"tide %d"}`, room, i)))
		if err != nil {
			t.Fatal(err)
		}
		io.Copy(io.Discard, answer.Body)
		answer.Body.Close()
		until(fmt.Sprintf("tide %d", i))
	}
	resp.Body.Close()
	if err := r.Stop(); err != nil {
		t.Fatal(err)
	}
	plan, err := replay.Make(rec, replay.Options{})
	if err != nil || len(plan.Actors) != 1 {
		t.Fatalf("%+v, %v", plan, err)
	}
	for name, tc := range map[string]struct {
		switches board.Switches
		want     string
	}{"the same": {board.Switches{}, ""}, "loses": {board.Switches{Lose: 1}, "notice did not come"}} {
		again := serve(t, standin.Config{History: -1, Switches: tc.switches})
		visitRoom(t, again)
		result, err := Run(context.Background(), plan, Options{To: again.URL(), Within: time.Second})
		if err != nil {
			t.Fatal(err)
		}
		text := ""
		for _, g := range result.Groups {
			text += g.What + " " + g.Kind + "; "
		}
		if result.Same != (tc.want == "") || !strings.Contains(text, tc.want) || result.Expected < 8 {
			t.Errorf("%s: %d expected, %d came; %s", name, result.Expected, result.Came, text)
		}
	}
	if text := plan.Trial("stream", 1); !strings.Contains(text, "event stream") {
		t.Errorf("the trial does not say what it leaves out:\n%s", text)
	}
}

// visitRoom has somebody stay in a room until the test is over.
func visitRoom(t *testing.T, s *standin.Server) string {
	t.Helper()
	events := make(chan probe.Event, 1000)
	l := probe.Dial(1, probe.Target{URL: s.URL()}, func(e probe.Event) { events <- e })
	t.Cleanup(l.Hangup)
	for e := range events {
		switch {
		case e.What == probe.Opened:
			l.Send([]byte(`{"kind":"name","name":"keeper"}`), false)
			l.Send([]byte(`{"kind":"enter","room":"berth-1"}`), false)
		case strings.Contains(e.Text, `"kind":"presence"`):
			return "berth-1"
		case e.What == probe.Ended:
			t.Fatal(e.Why)
		}
	}
	return ""
}
