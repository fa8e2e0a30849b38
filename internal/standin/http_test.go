package standin

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// do makes a request and returns the status and what the answer says.
func do(t *testing.T, c *http.Client, method, address, kind, content string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, address, strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	resp, err := c.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(b)
}

// TestDoor: who has logged in comes in, by form and cookie, by token and as a
// guest; others do not, and foreign origins do not.
func TestDoor(t *testing.T) {
	s := start(t, Config{Login: true, Origins: []string{"http://harbour.example"}})
	base := "http://" + s.Addr.String()
	try := func(c *http.Client, query, bearer, origin string) int {
		req, _ := http.NewRequest("GET", base+"/live"+query, nil)
		for name, value := range map[string]string{"Connection": "Upgrade", "Upgrade": "websocket",
			"Sec-WebSocket-Version": "13", "Sec-WebSocket-Key": "AAAAAAAAAAAAAAAAAAAAAA=="} {
			req.Header.Set(name, value)
		}
		if bearer != "" {
			req.Header.Set("Authorization", "Bearer "+bearer)
		}
		if origin != "" {
			req.Header.Set("Origin", origin)
		}
		resp, err := c.Transport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	client := func() *http.Client {
		jar, _ := cookiejar.New(nil)
		return &http.Client{Jar: jar, Transport: &http.Transport{}}
	}
	plain := client()
	if n := try(plain, "", "", ""); n != 401 {
		t.Errorf("without credentials the answer is %d", n)
	}
	if n, _ := do(t, plain, "POST", base+"/login", "application/x-www-form-urlencoded",
		"user=Alder&password=wrong"); n != 401 {
		t.Errorf("a wrong password is answered %d", n)
	}
	n, said := do(t, plain, "POST", base+"/token", "application/json", `{"user":"Alder","password":"low-water"}`)
	var given struct{ Token string }
	if json.Unmarshal([]byte(said), &given); n != 200 || given.Token == "" {
		t.Fatalf("%d %s", n, said)
	}
	for _, tc := range []struct {
		query, bearer, origin string
		want                  int
	}{{"", given.Token, "", 101}, {"?token=" + given.Token, "", "", 101}, {"", given.Token + "0", "", 401},
		{"", given.Token, "http://harbour.example", 101}, {"", given.Token, "http://elsewhere.example", 403}} {
		if n := try(plain, tc.query, tc.bearer, tc.origin); n != tc.want {
			t.Errorf("%+v: answered %d", tc, n)
		}
	}
	for path, form := range map[string]url.Values{"/login": {"user": {"Alder"}, "password": {"low-water"}},
		"/guest": nil} {
		c := client()
		method := "POST"
		if form == nil {
			method = "GET"
		}
		if n, said := do(t, c, method, base+path, "application/x-www-form-urlencoded", form.Encode()); n != 200 {
			t.Fatalf("%s: %d %s", path, n, said)
		}
		u, _ := url.Parse(base)
		cookies := c.Jar.Cookies(u)
		if len(cookies) != 1 || cookies[0].Name != "berth" {
			t.Fatalf("%s: cookies %v", path, cookies)
		}
		req, _ := http.NewRequest("GET", base+"/live", nil)
		req.AddCookie(cookies[0])
		resp, err := c.Transport.RoundTrip(req) // no handshake, but let in
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != 400 {
			t.Errorf("%s: with the cookie the answer is %d", path, resp.StatusCode)
		}
	}
}

// TestBoardOverHTTP: what is published comes to the room, as an event stream
// too; history and counters say the same from memory and from SQLite.
func TestBoardOverHTTP(t *testing.T) {
	for name, file := range map[string]string{"memory": "", "SQLite": filepath.Join(t.TempDir(), "board.db")} {
		t.Run(name, func(t *testing.T) {
			s := start(t, Config{Store: file, Gauge: 50 * time.Millisecond})
			base := "http://" + s.Addr.String()
			v := callOn(t, s, "Alder")
			v.say(`{"kind":"enter","room":"lock-1"}`)
			v.want(`"kind":"entered"`)
			stream, err := http.Get(base + "/stream?room=lock-1")
			if err != nil {
				t.Fatal(err)
			}
			defer stream.Body.Close()
			lines := bufio.NewReader(stream.Body)
			until := func(what string) {
				t.Helper()
				for {
					line, err := lines.ReadString('\n')
					if err != nil {
						t.Fatalf("the stream ends before %s: %v", what, err)
					}
					if strings.Contains(line, what) {
						return
					}
				}
			}
			until(`"kind":"entered"`)
			for i := range 25 {
				if n, said := do(t, http.DefaultClient, "POST", base+"/publish", "application/json",
					fmt.Sprintf(`{"room":"lock-1","text":"berth %d","ref":"r%d"}`, i, i)); n != 200 ||
					!strings.Contains(said, fmt.Sprintf(`"seq": %d`, i+1)) {
					t.Fatalf("%d %s", n, said)
				}
				v.want(fmt.Sprintf(`"from":"berth-planner","seq":%d,"ref":"r%d","text":"berth %d"`, i+1, i, i))
			}
			until(`"text":"berth 24"`)
			if n, _ := do(t, http.DefaultClient, "POST", base+"/publish", "",
				`{"room":"nowhere","text":"x"}`); n != 400 {
				t.Errorf("publishing to no room is answered %d", n)
			}
			_, said := do(t, http.DefaultClient, "GET", base+"/history?room=lock-1", "", "")
			var past []struct{ Text string }
			if err := json.Unmarshal([]byte(said), &past); err != nil ||
				len(past) != map[string]int{"memory": 20, "SQLite": 25}[name] || past[len(past)-1].Text != "berth 24" {
				t.Errorf("history: %v %s", err, said)
			}
			_, said = do(t, http.DefaultClient, "GET", base+"/counters", "", "")
			if !strings.Contains(said, `"notices": 25`) || !strings.Contains(said, `"members": 2`) {
				t.Errorf("counters: %s", said)
			}
			v.say(`{"kind":"members","room":"lock-1"}`)
			v.want(`"members":2,"names":["Alder","stream-`)
			v.say(`{"kind":"enter","room":"gauge-north"}`)
			v.want(`{"kind":"reading","gauge":"gauge-north","seq":1,"at":`)
			v.want(`{"kind":"reading","gauge":"gauge-north","seq":2,"at":`)
			v.say(`{"kind":"enter","room":"harbour-office"}`)
			v.want(`"why":"only the harbour master enters here"`)
		})
	}
}

// TestLinesOverTCP: the same board in lines of JSON, beside WebSocket.
func TestLinesOverTCP(t *testing.T) {
	s := start(t, Config{})
	v := callOn(t, s, "Alder")
	v.say(`{"kind":"enter","room":"lock-1"}`)
	v.want(`"kind":"entered"`)
	c, err := net.Dial("tcp", s.Addr.String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "{\"kind\":\"name\",\"name\":\"Birch\"}\r\n{\"kind\":\"enter\",\"room\":\"lock-1\"}\n{\"kind"+
		"\":\"notice\",\"room\":\"lock-1\",\"text\":\"né\"}\n")
	v.want(`"from":"Birch","seq":1,"text":"né"`)
	c.SetReadDeadline(time.Now().Add(5 * time.Second))
	lines := bufio.NewScanner(c)
	for _, want := range []string{`"kind":"welcome"`, `"kind":"named"`, `"kind":"entered"`, `"kind":"notice"`} {
		if !lines.Scan() || !strings.Contains(lines.Text(), want) {
			t.Fatalf("%q, want %s, %v", lines.Text(), want, lines.Err())
		}
	}
}
