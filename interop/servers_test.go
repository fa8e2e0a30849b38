package interop

import (
	"bufio"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// A kind is one of the servers.
type kind struct {
	name, what string
	cuts       bool     // it cuts what is idle, which clients of a server that stands still are
	small      bool     // 200 clients are too many for it on a small machine
	borrows    string   // whose trial is its own, too; "": it has one
	vary       []string // values that each copy of a replay needs for itself
	evicts     evicts   // when it closes who gives no sign of life, by its code; zero if it does not
}

// evicts is what a server's code says of heartbeats, as a promise has it: who begins and how often,
// and between how much after the first sign of life that was owed it closes who gives none.
type evicts struct {
	from            string
	every           string
	earliest, until float64 // seconds
}

// servers are in the order of the report.
var servers = []kind{
	{name: "node-ws", what: "ws (Node): JSON with a field that says what is wanted",
		evicts: evicts{"server", "1500ms", 3, 3}},
	{name: "node-packets", what: "socket.io (Node): events in packets with digits in front, beats of its own",
		evicts: evicts{"server", "2s", 2, 2}},
	{name: "node-strings", what: "websocket (Node): JSON in strings of JSON", evicts: evicts{"server", "2s", 2, 2}},
	{name: "sockjs-frames", what: "sockjs (Node): texts in a list behind a letter"},
	{name: "go-hub", what: "gorilla/websocket (Go): who and where in the address, several messages in a frame",
		evicts: evicts{"server", "2s", 2, 2}},
	{name: "go-envelope", what: "coder/websocket (Go): event and data, a subprotocol",
		evicts: evicts{"server", "2s", 2, 2}},
	{name: "python-text", what: "Tornado (Python): plain text, a greeting, saying one's name is entering",
		evicts: evicts{"server", "2s", 4, 4}},
	{name: "python-path", what: "Starlette on uvicorn (Python): name in the path, an answer and a broadcast",
		evicts: evicts{"server", "2s", 2, 2}},
	{name: "python-array", what: "aiohttp (Python): lists that begin with what they are",
		evicts: evicts{"server", "2s", 1, 1}},
	// Its timers (txaio's batched ones) go off at whole seconds: what is to take 2 s takes from 1 s on.
	{name: "django-groups", small: true, what: "Django Channels (Python): groups on two processes over Redis",
		evicts: evicts{"server", "2s", 1, 2}},
	{name: "ruby-cable", what: "Action Cable (Ruby): commands for identifiers that are JSON in a string"},
	{name: "nginx-front", borrows: "node-ws", what: "nginx before the first", evicts: evicts{"server", "1500ms", 3, 3}},
	{name: "rabbit-stomp", what: "RabbitMQ: STOMP over WebSocket", evicts: evicts{"client", "1s", 3, 6}},
	{name: "mosquitto-mqtt", what: "Mosquitto: MQTT over WebSocket",
		vary:   []string{`lighthouse-a="lighthous${n + 100}"`, `lighthouse-b="lightboat${n + 100}"`},
		evicts: evicts{"client", "1s", 2, 8}},
}

// ways are servers that other transports than WebSocket, or TLS and compression, lead to.
var ways = []kind{
	{name: "python-websockets", what: "websockets (Python): WebSocket, every message compressed (RFC 7692)"},
	{name: "go-events", what: "net/http (Go): an event stream and POST; streams are ended each 2 s, and go on"},
	{name: "python-polling", what: "http.server (Python): long polls answered with lists, in gzip, and POST"},
	{name: "python-lines", what: "socketserver (Python): lines over TCP"},
	{name: "python-datagrams", what: "asyncio (Python): messages in UDP datagrams"},
	{name: "nginx-idle", cuts: true, what: "nginx, that cuts what is idle for 3 s, before ws (Node): 50 more " +
		"clients are silent, " +
		"and are all cut"},
	{name: "nginx-ways", what: "nginx (TLS; no upgrade; a stream kept back) before the event stream: all clients " +
		"take the third route"},
}

// A server is one that runs, with all its processes in one group.
type server struct {
	cmd    *exec.Cmd
	port   int
	second int // of one with two processes
}

// start starts a server; why says what is missing if it cannot be. More is for its
// environment.
func start(t *testing.T, name string, more ...string) (s *server, why string) {
	t.Helper()
	here, err := filepath.Abs(name)
	if err != nil {
		t.Fatal(err)
	}
	ports := freePorts(t, 4)
	s = &server{port: ports[0], second: ports[1]}
	s.cmd = exec.Command(filepath.Join(here, "start.sh"))
	for _, p := range ports {
		s.cmd.Args = append(s.cmd.Args, strconv.Itoa(p))
	}
	s.cmd.Env = append(surroundings(here), more...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var words strings.Builder
	s.cmd.Stderr = &words
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.kill)
	ready := make(chan bool, 1)
	go func() {
		lines := bufio.NewScanner(out)
		ready <- lines.Scan() && lines.Text() == "ready"
		for lines.Scan() {
		}
	}()
	select {
	case is := <-ready:
		if !is {
			s.cmd.Wait()
			return nil, strings.TrimSpace(words.String())
		}
	case <-time.After(5 * time.Minute): // it may have to be installed first
		return nil, "it was not ready within five minutes"
	}
	return s, ""
}

// again starts a server of which it is known that it starts.
func again(t *testing.T, name string, more ...string) *server {
	t.Helper()
	s, why := start(t, name, more...)
	if s == nil {
		t.Fatalf("%s does not start again: %s", name, why)
	}
	return s
}

// surroundings is the environment of what runs in a server's folder.
func surroundings(here string) []string {
	cache := os.Getenv("INTEROP_CACHE")
	if cache == "" {
		cache = filepath.Join(os.TempDir(), "tidepull-interop")
	}
	return append(os.Environ(), "HERE="+here, "CACHE="+cache)
}

// freePorts gives ports at which nobody listens now.
func freePorts(t *testing.T, n int) (ports []int) {
	t.Helper()
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
	}
	return ports
}

// signal sends a signal to all of a server's processes.
func (s *server) signal(what syscall.Signal) { syscall.Kill(-s.cmd.Process.Pid, what) }

func (s *server) kill() {
	s.signal(syscall.SIGKILL)
	s.cmd.Wait()
}

// tool is a command of the tool's, with a folder to work in.
func tool(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	path, err := filepath.Abs("../bin/tidepull")
	if err != nil {
		t.Fatal(err)
	}
	return exec.Command(path, append([]string{"--store=-"}, args...)...)
}
