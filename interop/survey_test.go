package interop

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

// A planted is a mistake as a programmer makes it, put into one of the servers, and the weakness that it is.
type planted struct {
	server, what string
	row          int      // 0: there is none
	trial        string   // in the server's folder, if it is not the one of its name
	change       []string // what is replaced by what in the server's source
}

var plants = []planted{
	{server: "node-ws", what: "healthy"},
	{server: "node-ws", what: "a set that is read, changed and written back across a wait", row: 1, change: []string{
		`      if (!rooms.has(m.room)) rooms.set(m.room, new Set());
      rooms.get(m.room).add(socket);
      mine.add(m.room);
      socket.send(JSON.stringify({ did: "join", room: m.room }));`,
		`      const before = [...(rooms.get(m.room) || [])];
      setTimeout(() => {
        rooms.set(m.room, new Set([...before, socket]));
        mine.add(m.room);
        socket.send(JSON.stringify({ did: "join", room: m.room }));
      }, 5);`}},
	{server: "node-ws", what: "an await before the relay", row: 14, change: []string{
		`      for (const other of rooms.get(m.room) || []) {
        other.send(JSON.stringify({ did: "post", room: m.room, from: name, text: m.text }));
        truth.written++;
      }`,
		`      setTimeout(() => {
        for (const other of rooms.get(m.room) || [])
          other.send(JSON.stringify({ did: "post", room: m.room, from: name, text: m.text }));
      }, Math.random() * 30);`}},
	{server: "node-ws", what: "a queue that drops", row: 32, change: []string{`const rooms =`,
		"const queue = [];\nconst rooms =",
		`      for (const other of rooms.get(m.room) || []) {`,
		`      queue.push(m.room);
      setTimeout(() => queue.shift(), 20);
      if (queue.length > 8) return;
      for (const other of rooms.get(m.room) || []) {`}},
	{server: "node-ws", what: "the text is measured anew with each of its letters", row: 26, change: []string{
		`      for (const other of rooms.get(m.room) || []) {
        other.send(`, `      for (let i = 0; i < m.text.length; i++)
        if (Buffer.byteLength(m.text.slice(0, i)) > 100000) return;
      for (const other of rooms.get(m.room) || []) {
        other.send(`}},
	{server: "node-ws", what: "a handler that is attached late", row: 35, change: []string{`let name = "";`,
		`let name = "", joined = 0;`, `mine.add(m.room);`, `mine.add(m.room); joined = Date.now();`,
		`} else if (m.do === "post") {`, `} else if (m.do === "post" && Date.now() - joined > 40) {`}},
	{server: "node-ws", what: "nobody handles the error of a bad frame", row: 42, change: []string{
		`  socket.on("error", () => {}); // a bad frame: the library closes the connection
`, ""}},
	{server: "python-array", what: "healthy"},
	{server: "python-array", what: "the join is confirmed, and stored under another key", row: 36, change: []string{
		`rooms.setdefault(rest[0], []).append(socket)`,
		`rooms.setdefault(rest[0] + (" " if name.endswith("5") else ""), []).append(socket)`,
		`len(rooms[rest[0]])])`, `len(rooms.get(rest[0], []))])`}},
	{server: "python-array", what: "the relay is a task for each message", row: 14, change: []string{`import os
`, `import asyncio
import os
import random
`, `                for other in list(rooms.get(rest[0], [])):
                    truth["written"] += 1
                    await other.send_json(["post", rest[0], name, rest[1]])`,
		`                async def relay(room, text):
                    await asyncio.sleep(random.random() / 30)
                    for other in list(rooms.get(room, [])):
                        await other.send_json(["post", room, name, text])

                asyncio.create_task(relay(rest[0], rest[1]))`}},
	{server: "python-array", what: "the sender is left out", row: 2, change: []string{
		`                    truth["written"] += 1`,
		`                    if other is socket:
                        continue
                    truth["written"] += 1`}},
	{server: "python-array", what: "nobody is taken out whose connection ends", row: 5, change: []string{
		`                members.remove(socket)`, `                pass`,
		`                    await other.send_json(["post", rest[0], name, rest[1]])`, `                    try:
                        await other.send_json(["post", rest[0], name, rest[1]])
                    except ConnectionError:
                        pass`}},
	{server: "go-envelope", what: "healthy"},
	{server: "go-envelope", what: "messages go to all rooms that begin alike", row: 3, change: []string{
		`if other.room == c.room {`, `if other.room[:len(other.room)-1] == c.room[:len(c.room)-1] {`}},
	{server: "go-envelope", what: "a queue that drops", row: 32, change: []string{`	c.send <- b
`, `	select {
	case c.send <- b:
	default:
	}
`, `make(chan []byte, 1024)`, `make(chan []byte, 4)`, `			conn.Write(ctx, websocket.MessageText, b)`,
		`			time.Sleep(10 * time.Millisecond)
			conn.Write(ctx, websocket.MessageText, b)`}},
	{server: "go-envelope", what: "what is sent is made anew for each, and for each of the others", row: 26,
		change: []string{
			`					other.tell("post", map`, `					for peer := range clients {
						if peer.room == c.room {
							json.Marshal(e)
							json.Marshal(e)
							json.Marshal(e)
						}
					}
					other.tell("post", map`}},
	{server: "node-strings", what: "healthy"},
	{server: "node-strings", what: "nobody catches what is no JSON", row: 42, change: []string{
		`      return conn.drop(1007, "that is no JSON");`, `      throw error;`}},
	{server: "node-strings", what: "a store that is waited for before each relay", row: 10, change: []string{
		`const rooms =`, "let stored = Promise.resolve();\nconst rooms =",
		`      for (const other of rooms.get(mine) || []) {
        other.sendUTF(wrapped("post", { room: mine, text: data.text }));
        truth.written++;
      }`, `      stored = stored.then(() => new Promise((done) => setTimeout(done, 30))).then(() => {
        for (const other of rooms.get(mine) || []) other.sendUTF(wrapped("post", { room: mine, text: data.text }));
      });`}},
	{server: "node-strings", what: "what is too long is dropped", row: 17, change: []string{`      truth.received++;`,
		`      if (data.text.length > 9000) return;
      truth.received++;`}},
	{server: "python-websockets", what: "healthy"},
	{server: "python-websockets", what: "a second login overwrites the first", row: 31, change: []string{
		`rooms.setdefault(m["room"], set()).add(socket)`,
		`rooms.setdefault(m["room"], set())
                for old in [s for s in rooms[m["room"]] if getattr(s, "who", None) == name]:
                    rooms[m["room"]].discard(old)
                socket.who = name
                rooms[m["room"]].add(socket)`}},
	{server: "python-websockets", what: "one task that does much every few seconds", row: 41, change: []string{
		`async def main():
`, `async def tidy():
    while True:
        await asyncio.sleep(5)
        time.sleep(0.7)


async def main():
    asyncio.get_running_loop().create_task(tidy())
`, "import sys\n", "import sys\nimport time\n"}},
	{server: "python-websockets", what: "each write is waited for, one member after the other", row: 9,
		change: []string{
			`websockets.broadcast(rooms[m["room"]], out)`,
			`[await other.send(out) for other in list(rooms[m["room"]])]`}},
	{server: "python-websockets", what: "healthy, with a past", trial: "past.trial.hcl"},
	{server: "python-websockets", what: "what was said before is read and sent before the join is stored", row: 11,
		trial: "past.trial.hcl", change: []string{
			`                    for out in past.get(m["room"], []):
                        websockets.broadcast({socket}, out.replace('"did": "post"', '"did": "past"'))`,
			`                    for out in list(past.get(m["room"], [])):
                        await socket.send(out.replace('"did": "post"', '"did": "past"'))
                    await asyncio.sleep(0.1)`}},
	{server: "python-path", what: "healthy"},
	{server: "python-path", what: "an id made from the clock", row: 1, change: []string{
		`here = []
`, `here = {}
`, `import sys
`, `import sys
import time
`, `    here.append(socket)
`, `    me = time.time() * 100 // 1
    here[me] = socket
`, `list(here)`, `list(here.values())`, `        here.remove(socket)`, `        if here.get(me) is socket:
            del here[me]`}},
	{server: "python-lines", what: "healthy"},
	{server: "python-lines", what: "a store that is waited for before each relay, of all rooms", row: 10,
		change: []string{"import threading\n", "import threading\nimport time\n", `elif m["do"] == "post":
`, `elif m["do"] == "post":
                        time.sleep(0.008)
`}},
	{server: "python-lines", what: "one read is one message", row: 40, change: []string{
		`            for line in self.rfile:
`, `            while line := self.connection.recv(1 << 20):
                line = line.split(b"\n")[0]
                if not line.endswith(b"}\r"):
                    continue
`}},
	{server: "python-lines", what: "the first messages of a connection come before its handler is there", row: 35,
		change: []string{`import threading
`, `import threading
import time
`, `        name = ""
`, `        name, joined = "", 0
`, `                        self.say({"did": "join"`, `                        joined = time.monotonic()
                        self.say({"did": "join"`, `elif m["do"] == "post":`,
			`elif m["do"] == "post" and time.monotonic() > joined + 0.03:`}},
	{server: "python-lines", what: "who enters is taken out of another's place in the crowd", row: 1, change: []string{
		`                        rooms.setdefault(m["room"], set()).add(self)
`, `                        before = set(rooms.get(m["room"], ()))
                        lock.release()
                        time.sleep(0.004)
                        lock.acquire()
                        rooms[m["room"]] = before | {self}
`, "import threading\n", "import threading\nimport time\n"}},
}

// TestSurvey surveys servers on foreign libraries, as they are and with mistakes: those are found, by the right
// weakness, and nothing else is. docs/interop.md gets a row for each.
func TestSurvey(t *testing.T) {
	if os.Getenv("INTEROP") == "" {
		t.Skip("it needs servers from the package registries: make interop")
	}
	rows := map[string]string{} // by what begins them
	var writing sync.Mutex
	t.Run("of", func(t *testing.T) {
		for _, p := range plants {
			t.Run(p.server+", "+p.what, func(t *testing.T) {
				t.Parallel()
				tried, says, found := p.survey(t)
				want := []int{p.row}
				if p.row == 0 {
					want = nil
				}
				if tried == 0 {
					t.Skip("it proves nothing: this machine was busy with something else")
				}
				if !slices.Equal(found, want) {
					t.Errorf("found %v, want %v", found, want)
				}
				if len(says) == 0 {
					says = []string{fmt.Sprintf("nothing, of %d weaknesses that were looked for", tried)}
				}
				writing.Lock()
				defer writing.Unlock()
				rows[p.begins()] = p.begins() + strings.Join(says, "; ") + " |\n"
			})
		}
	})
	if len(rows) > 0 {
		tellOfSurveys(t, rows)
	}
}

// begins is how the row of a server begins.
func (p *planted) begins() string {
	what := "as it is"
	if p.trial != "" {
		what += ", with " + strings.TrimSuffix(p.trial, ".trial.hcl")
	}
	if p.row > 0 {
		what = fmt.Sprintf("%s (%d)", p.what, p.row)
	}
	return fmt.Sprintf("| %s | %s | ", p.server, what)
}

// survey surveys the server: of how many weaknesses something is known, and what was found, in words and by number.
// One with a mistake is looked at for that alone, unless SURVEY is whole: a whole survey takes some eight minutes.
// SURVEY may be numbers of rows, too.
func (p *planted) survey(t *testing.T) (tried int, says []string, found []int) {
	out := t.TempDir()
	s, why := start(t, p.plant(t))
	if why != "" {
		t.Skip(why)
	}
	file := cmp.Or(p.trial, p.server+".trial.hcl")
	args := []string{"survey", filepath.Join(p.server, file), "--set", fmt.Sprint("port=", s.port),
		"--set", fmt.Sprint("second_port=", s.second), "--out", out}
	if only := cmp.Or(os.Getenv("SURVEY"), fmt.Sprint(p.row)); only != "whole" && only != "0" {
		args = append(args, "--only", only)
	}
	text, _ := tool(t, args...).CombinedOutput() // 1: something was found
	var rep struct {
		Rows []struct {
			Weakness struct {
				Number int
				Title  string
			}
			State string
			Says  string
		}
	}
	b, err := os.ReadFile(filepath.Join(out, "survey.json"))
	if err == nil {
		err = json.Unmarshal(b, &rep)
	}
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	for _, r := range rep.Rows {
		if r.State != "not tried" {
			tried++
		}
		if r.State == "found" {
			found = append(found, r.Weakness.Number)
			says = append(says, fmt.Sprintf("%d %s: %s", r.Weakness.Number, r.Weakness.Title,
				strings.ReplaceAll(r.Says, "|", "\\|")))
		}
	}
	t.Logf("%s", text)
	return tried, says, found
}

// surveysHead begins the part of docs/interop.md that is about surveys.
const surveysHead = "\n## Surveys\n"

// tellOfSurveys puts the rows of surveys into docs/interop.md, in place of those that stand there of the same servers.
func tellOfSurveys(t *testing.T, rows map[string]string) {
	t.Helper()
	const file = "../docs/interop.md"
	old, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	head, tail, _ := strings.Cut(string(old), surveysHead)
	page := head + surveysHead + `
Servers on foreign libraries, surveyed ([survey.md](survey.md)) as they are and with a mistake as a programmer makes
it, which is put into the server's source. A mistake has to be found, by its own weakness (in brackets), and nothing
else.

| server | mistake | found |
| --- | --- | --- |
`
	for i := range plants {
		begins := plants[i].begins()
		row := rows[begins]
		for _, line := range strings.SplitAfter(tail, "\n") {
			if row == "" && strings.HasPrefix(line, begins) {
				row = line
			}
		}
		page += row
	}
	if err := os.WriteFile(file, []byte(page), 0o666); err != nil {
		t.Fatal(err)
	}
}

// plant gives a folder with the server as it is to be.
func (p *planted) plant(t *testing.T) string {
	t.Helper()
	if len(p.change) == 0 {
		return p.server
	}
	dir := t.TempDir()
	here := filepath.Join(dir, p.server)
	have, err := os.ReadFile("have.sh")
	if err == nil {
		// Each server is built in a folder of its own.
		have = []byte(strings.ReplaceAll(string(have), "$CACHE/$1", dir+"/$1"))
		err = os.WriteFile(filepath.Join(dir, "have.sh"), have, 0o700)
	}
	if err == nil {
		err = os.CopyFS(here, os.DirFS(p.server))
	}
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(here, "server.*"))
	if err != nil || len(files) != 1 {
		t.Fatalf("%v %v", files, err)
	}
	src, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	text := string(src)
	for i := 0; i < len(p.change); i += 2 {
		if !strings.Contains(text, p.change[i]) {
			t.Fatalf("the server has no %q any more", p.change[i])
		}
		text = strings.Replace(text, p.change[i], p.change[i+1], 1)
	}
	if err := os.WriteFile(files[0], []byte(text), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(here, "start.sh"), 0o700); err != nil {
		t.Fatal(err)
	}
	return here
}
