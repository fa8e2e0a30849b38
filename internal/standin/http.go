package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"tidepull/internal/base/mono"
	"tidepull/internal/standin/board"
	"tidepull/internal/wire/http1"
)

// A request is one whole HTTP request.
type request struct {
	*http1.Head
	url     *url.URL
	content []byte
	at      mono.Time
	login   string // who logged in, "" for a guest
	in      bool   // it has credentials
}

// cookieName is the cookie that stands for a login.
const cookieName = "berth"

// tokenFor makes the token that stands for a user. It is a stand-in's: anyone
// who reads this can make one.
func tokenFor(user string) string {
	sum := sha256.Sum256([]byte("harbour board " + user))
	return hex.EncodeToString([]byte(user)) + "." + hex.EncodeToString(sum[:8])
}

func userOf(token string) (string, bool) {
	name, _, _ := strings.Cut(token, ".")
	user, err := hex.DecodeString(name)
	return string(user), err == nil && token == tokenFor(string(user))
}

// credentials finds out who asks: by cookie, bearer token, or a token in the
// address.
func (r *request) credentials(*loop) (login string, in bool) {
	token := r.url.Query().Get("token")
	if bearer, ok := strings.CutPrefix(r.Get("Authorization"), "Bearer "); ok {
		token = bearer
	}
	if cookies, err := http.ParseCookie(r.Get("Cookie")); err == nil {
		for _, c := range cookies {
			if c.Name == cookieName {
				token = c.Value
			}
		}
	}
	user, ok := userOf(token)
	if strings.HasPrefix(user, "guest-") {
		return "", ok
	}
	return user, ok
}

// passwordOf is the password of a user: the harbour master has one of his own.
func passwordOf(user string) string {
	if user == board.Master {
		return "high-water"
	}
	return "low-water"
}

func (l *loop) answerHTTP(id int32, r *request) {
	const lines = "application/x-ndjson"
	switch what := r.Method + " " + r.url.Path; what {
	case "POST /login", "POST /token":
		l.logIn(id, r)
	case "GET /guest":
		l.guests++
		l.admit(id, r, fmt.Sprintf("guest-%d", l.guests))
	case "GET /publish": // for those that fire a page: what it says stands in its address
		q := r.url.Query()
		r.content, _ = json.Marshal(map[string]string{"room": q.Get("room"),
			"text": q.Get("text")}) // strings can always be written
		l.publish(id, r)
	case "POST /publish":
		l.publish(id, r)
	case "GET /counters":
		l.answerJSON(id, r, l.board.Counters())
	case "GET /history":
		l.answerHistory(id, r)
	case "GET /truth":
		l.answerJSON(id, r, l.board.Summary())
	case "GET /truth/messages":
		l.answer(id, r, 200, lines, l.board.Truth.AppendMessages(nil))
	case "GET /truth/deliveries":
		l.answer(id, r, 200, lines, l.board.Truth.AppendDeliveries(nil))
	case "GET /truth/evictions":
		l.answer(id, r, 200, lines, l.board.Truth.AppendEvictions(nil))
	case "GET /metrics":
		l.answer(id, r, 200, "text/plain; version=0.0.4", l.metrics())
	case "POST /restart":
		l.restart(id, r)
	case "GET /switches":
		l.answerJSON(id, r, l.board.Switches())
	case "POST /switches":
		if err := l.board.Switches().Set(r.url.Query()); err != nil {
			l.answer(id, r, 400, "text/plain", []byte(err.Error()+"\n"))
			return
		}
		l.answerJSON(id, r, l.board.Switches())
	default:
		l.answer(id, r, 404, "text/plain", []byte("here are /live, /stream, /login, /token, /guest, /publish, "+
			"/history, /counters, /truth, /truth/messages, /truth/deliveries, /truth/evictions, /metrics, "+
			"/switches and /restart\n"))
	}
}

// metrics are what the stand-in says of itself, in the text format of Prometheus.
func (l *loop) metrics() []byte {
	var b bytes.Buffer
	c := l.board.Counters()
	for _, m := range []struct {
		name, help string
		value      int
	}{
		{"harbour_connections", "Clients that are connected.", int(l.board.Truth.Totals.Here)},
		{"harbour_members", "Members of all rooms that are connected.", c.Members},
		{"harbour_present", "Members of all rooms as they are announced.", l.board.Present()},
	} {
		fmt.Fprintf(&b, "# HELP %s %s\n# TYPE %s gauge\n%s %d\n", m.name, m.help, m.name, m.name, m.value)
	}
	return b.Bytes()
}

// logIn takes a user and a password, from a form or as JSON.
func (l *loop) logIn(id int32, r *request) {
	var given struct{ User, Password string }
	if strings.HasPrefix(r.Get("Content-Type"), "application/json") {
		if err := json.Unmarshal(r.content, &given); err != nil {
			l.answer(id, r, 400, "text/plain", []byte("the content is no JSON: "+err.Error()+"\n"))
			return
		}
	} else if form, err := url.ParseQuery(string(r.content)); err == nil {
		given.User, given.Password = form.Get("user"), form.Get("password")
	}
	if given.User == "" || len(given.User) > 100 || given.Password != passwordOf(given.User) {
		l.answer(id, r, 401, "text/plain", []byte("no such user, or another password\n"))
		return
	}
	if r.url.Path == "/token" {
		l.answerJSON(id, r, map[string]string{"user": given.User, "token": tokenFor(given.User)})
		return
	}
	l.admit(id, r, given.User)
}

// admit answers with a cookie that stands for a user.
func (l *loop) admit(id int32, r *request, user string) {
	cookie := http.Cookie{Name: cookieName, Value: tokenFor(user), Path: "/", HttpOnly: true}
	b, _ := json.Marshal(map[string]string{"user": user}) // strings can always be written
	l.answer(id, r, 200, "application/json", append(b, '\n'), http1.Field{Name: "Set-Cookie", Value: cookie.String()})
}

func (l *loop) publish(id int32, r *request) {
	if l.cfg.Login && !r.in && l.board.Switches().OpenDoor == 0 {
		l.answer(id, r, 401, "text/plain", []byte("log in first\n"))
		return
	}
	seq, refused := l.board.Publish(r.content, r.at)
	if refused != "" {
		l.answer(id, r, 400, "text/plain", []byte(refused+"\n"))
		return
	}
	l.answerJSON(id, r, map[string]int64{"seq": seq})
}

func (l *loop) answerHistory(id int32, r *request) {
	room := r.url.Query().Get("room")
	if l.keep == nil {
		l.answer(id, r, 200, "application/json", l.board.AppendHistory(nil, room))
		return
	}
	kept, err := l.keep.history(room)
	if err != nil {
		l.answer(id, r, 500, "text/plain", []byte(err.Error()+"\n"))
		return
	}
	l.answer(id, r, 200, "application/json", kept)
}

func (l *loop) answerJSON(id int32, r *request, v any) {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		panic(err) // plain structs
	}
	l.answer(id, r, 200, "application/json", append(b, '\n'))
}

// answer answers a request; the connection stays open for the next one, unless
// the request could not be read (nil) or wants it closed.
func (l *loop) answer(id int32, r *request, status int, kind string, content []byte, more ...http1.Field) {
	stays := r != nil && !r.HasToken("Connection", "close")
	then := "close"
	if stays {
		then = "keep-alive"
	}
	fields := append([]http1.Field{{Name: "Connection", Value: then}}, more...)
	if status != 204 { // which has no content (RFC 9110 15.3.5)
		fields = append(fields, http1.Field{Name: "Content-Type", Value: kind},
			http1.Field{Name: "Content-Length", Value: strconv.Itoa(len(content))})
	}
	l.drv.Write(id, append(http1.AppendResponse(nil, status, http.StatusText(status), fields...), content...))
	if !stays {
		l.drop(id)
	}
}
