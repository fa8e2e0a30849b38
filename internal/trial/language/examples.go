package language

import "strings"

// examples has an example of each block, which the reference shows and a test
// runs against the stand-in (Example makes a whole trial of one).
var examples = map[string]string{
	"trial":    "trial \"morning tide\" {\n  seed   = 7\n  prompt = \"500ms\"\n  grace  = \"3s\"\n}",
	"import":   "import \"board.hcl\" {}",
	"variable": "variable \"pilots\" { default = 4 }",
	"secret":   "secret \"token\" { env = \"HARBOUR_TOKEN\" }",
	"data":     "data \"berths\" { file = \"berths.csv\" }",
	"target":   "target \"board\" {\n  websocket = \"ws://127.0.0.1:7411/live\"\n  order     = \"sender\"\n}",
	"target.route": "route \"polling\" {\n  polling  = \"http://127.0.0.1:7411/poll?client=${name}\"\n  " +
		"post_end = true\n}",
	"dialect": "dialect \"ours\" {\n  name {\n    send      = { kind = \"name\", name = name }\n    confirmed " +
		"= msg.kind == \"named\"\n  }\n  enter {\n    send      = { kind = \"enter\", room = room }\n    confirmed " +
		"= msg.kind == \"entered\" && msg.room == room\n  }\n}",
	"feed": "feed \"tide gauge\" {\n  when  = msg.kind == \"reading\"\n  key   = msg.gauge\n  seq   = " +
		"msg.seq\n  time  = msg.at\n  fresh = \"2s\"\n}",
	"session": "session \"watch a lock\" {\n  connect {}\n  enter { room = \"lock-1\" }\n  leave {}\n}",
	"crew": "crew \"tugs\" {\n  clients   = 4\n  session   = session.watch\n  name      = \"tug-${n}\"\n  " +
		"groups_of = 2\n}",
	"tide":  "tide {\n  flood \"100%\" { over = \"1s\" }\n  slack { lasts = \"2s\" }\n  ebb { over = \"1s\" }\n}",
	"limit": "limit \"nothing is lost\" {\n  of     = ledger.lost\n  equals = 0\n}",
	"final_check": "final_check \"the board kept all notices\" {\n  request { path = \"/truth\" }\n  holds = " +
		"msg.totals.notices == messages.notices\n}",

	"on": "on \"broken\" { command = [\"wall\", \"a limit of the night's run is broken\"] }",

	"dialect.name": "name {\n  send      = { kind = \"name\", name = name }\n  confirmed = msg.kind == " +
		"\"named\"\n  refused   = msg.kind == \"refused\" && msg.what == \"name\"\n}",
	"dialect.enter": "enter {\n  send      = { kind = \"enter\", room = room }\n  confirmed = msg.kind == " +
		"\"entered\" && msg.room == room\n}",
	"dialect.leave": "leave {\n  send      = { kind = \"leave\", room = room }\n  confirmed = msg.kind == " +
		"\"left\" && msg.room == room\n}",
	"dialect.past":  "past {\n  when = msg.kind == \"past\"\n  seq  = msg.seq\n}",
	"dialect.beat":  "beat {\n  when   = msg.kind == \"are you there\"\n  answer = { kind = \"here\" }\n}",
	"dialect.other": "other { when = msg.kind == \"welcome\" }",
	"dialect.echo":  "echo { when = msg.kind == \"ack\" }",
	"dialect.heard": "heard {\n  when    = msg.kind == \"notice\"\n  room    = msg.room\n  seq     = msg.seq\n  " +
		"payload = msg.text\n}",
	"dialect.presence": "presence {\n  when    = msg.kind == \"presence\"\n  room    = msg.room\n  members = " +
		"msg.members\n}",
	"dialect.joined": "joined {\n  when = msg.kind == \"joined\"\n  room = msg.room\n  name = msg.name\n}",
	"dialect.gone":   "gone {\n  when = msg.kind == \"gone\"\n  room = msg.room\n  name = msg.name\n}",

	"dialect.switch": "switch {\n  send      = { kind = \"probe\" }\n  confirmed = msg.kind == \"ready\"\n  " +
		"then      = { kind = \"switch\" }\n}",
	"dialect.goodbye": "goodbye { send = { kind = \"bye\" } }",
	"target.tls":      "tls {\n  least    = \"1.3\"\n  resume   = true\n  insecure = true\n}",
	"crew.misbehave": "crew \"pilots\" {\n  clients = 6\n  session = session.watch\n  misbehave {\n    do    = " +
		"\"late\"\n    by    = \"300ms\"\n    share = \"50%\"\n    after = \"200ms\"\n  }\n}",
	"target.promise": "promise {\n  every    = \"5s\"\n  deadline = \"10s\"\n}",
	"without": "crew \"pilots\" {\n  clients = 6\n  session = session.watch\n  without \"websocket\" " +
		"{ share = \"50%\" }\n}",

	"server": "server {\n  command = [\"./board\", \"--port\", \"7411\"]\n  ready   = \"serving\"\n}",
	"fault": "fault \"power cut on the quay\" {\n  do    = \"cut\"\n  at    = \"1s\"\n  lasts = \"500ms\"\n  share " +
		"= \"30%\"\n}",
	"reconnect": "crew \"pilots\" {\n  clients = 6\n  session = session.watch\n  reconnect {\n    first  = " +
		"\"200ms\"\n" +
		"    most   = \"5s\"\n    jitter = \"full\"\n  }\n}",
	"connect": "connect {\n  within = \"5s\"\n  origin = \"http://harbour.example\"\n}",
	"request": "request \"look at the truth\" {\n  path   = \"/truth\"\n  status = 200\n  when   = msg.totals " +
		"!= null\n}",
	"enter": "enter {\n  room    = \"lock-${n % 2}\"\n  capture = { members = msg.members }\n}",
	"say": "say {\n  body    = { kind = \"notice\", room = room, text = \"gate turning ${mark}\" }\n  " +
		"reaches = \"room\"\n}",
	"whisper": "whisper {\n  to   = \"pilots-${(n + 1) % 4}\"\n  body = { kind = \"whisper\", to = to, text = " +
		"\"your berth is free ${mark}\" }\n}",
	"send": "send { body = { kind = \"members\", room = room } }",
	"ask": "ask \"who is there\" {\n  send = { kind = \"members\", room = room }\n  when = msg.kind == " +
		"\"members\"\n}",
	"expect": "expect \"a notice\" {\n  when    = msg.kind == \"notice\"\n  within  = \"2s\"\n  already = true\n}",
	"leave":  "leave {}",
	"pause":  "pause {\n  lasts = \"100ms\"\n  most  = \"300ms\"\n}",
	"repeat": "repeat {\n  every  = \"300ms\"\n  jitter = \"20%\"\n  times  = 3\n  say { body = { kind = " +
		"\"notice\", room = room, text = mark } }\n}",
	"choose": "choose {\n  option {\n    weight = 3\n    pause { lasts = \"100ms\" }\n  }\n  option {\n    " +
		"say { body = { kind = \"notice\", room = room, text = mark } }\n  }\n}",
	"option": "choose {\n  option {\n    weight = 2\n    pause { lasts = \"50ms\" }\n  }\n}",
	"when":   "when {\n  that = n % 2 == 0\n  pause { lasts = \"100ms\" }\n}",
	"otherwise": "when {\n  that = n == 0\n  pause { lasts = \"100ms\" }\n}\notherwise {\n  pause { lasts = " +
		"\"200ms\" }\n}",
	"set":     "set { berth = \"berth-${n + 1}\" }",
	"barrier": "barrier \"all there\" {\n  among  = \"crew\"\n  within = \"5s\"\n}",
	"close":   "close {\n  code   = 1000\n  reason = \"off duty\"\n}",
	"stay":    "stay {}",
	"vanish":  "vanish {}",
	"expect_close": "send { body = { kind = \"log off\" } }\n  expect_close \"it lets us go\" {\n    code   = 4000\n" +
		"    reason = \"logged off\"\n    within = \"2s\"\n  }",
	"assert":      "assert \"it has a number\" { that = n >= 0 }",
	"fall_silent": "fall_silent {}",
	"misbehave":   "misbehave {\n  do             = \"silent\"\n  evicted_within = \"30s\"\n}",
	"read_slowly": "read_slowly { bytes_per_second = 4096 }",
	"malformed":   "malformed {\n  what   = \"unmasked\"\n  within = \"2s\"\n}",

	"flood": "flood \"100%\" { over = \"1s\" }",
	"slack": "slack { lasts = \"1s\" }",
	"ebb":   "ebb {\n  over = \"1s\"\n  to   = \"50%\"\n}",
	"wave":  "wave {\n  to     = \"50%\"\n  period = \"1s\"\n  times  = 2\n}",
	"spike": "spike \"100%\" { lasts = \"500ms\" }",

	"final_check.request": "request {\n  path    = \"/truth\"\n  headers = { \"Accept\" = \"application/json\" }\n}",
}

// Example makes a whole trial of the example of a block, against the stand-in. An
// example that needs a file or a variable of the environment has read give what
// is in "board.hcl" and "berths.csv", and HARBOUR_TOKEN set.
func Example(name string) string {
	example := examples[name]
	parts := map[string]string{
		"trial":  "trial \"example\" {}",
		"target": "target \"board\" { websocket = \"ws://127.0.0.1:7411/live\" }",
		"session": "session \"watch\" {\n  connect {}\n  enter { room = \"lock-${n % 2}\" }\n  say { body = { kind " +
			"= \"notice\", room = room, text = mark } }\n  pause { lasts = \"500ms\" }\n}",
		"crew": "crew \"pilots\" {\n  clients = 4\n  session = session.watch\n}",
		"tide": "tide {\n  flood \"100%\" { over = \"200ms\" }\n  slack { lasts = \"3s\" }\n  ebb { over = " +
			"\"200ms\" }\n}",
	}
	more := ""
	part := lastPart(name)
	switch {
	case name == "trial" || name == "target" || name == "tide":
		parts[name] = example
	case name == "target.route":
		parts["target"] = "target \"board\" {\n  websocket = \"ws://127.0.0.1:7411/live\"\n" + example + "\n}"
	case name == "target.tls":
		parts["target"] = "target \"board\" {\n  websocket = \"wss://127.0.0.1:7411/live\"\n" + example + "\n}"
	case name == "target.promise":
		parts["target"] = "target \"board\" {\n  websocket = \"ws://127.0.0.1:7411/live\"\n" + example + "\n}"
	case name == "crew.misbehave":
		parts["crew"] = example
	case name == "reconnect":
		parts["crew"] = example
	case name == "without":
		parts["crew"] = example
		parts["target"] = "target \"board\" {\n  websocket = \"ws://127.0.0.1:7411/live\"\n" +
			examples["target.route"] + "\n}"
	case strings.HasPrefix(name, "dialect."):
		parts["target"] = "target \"board\" {\n  websocket = \"ws://127.0.0.1:7411/live\"\n  dialect   = \"ours\"\n}"
		whole := map[string]bool{"name": part == "name", "enter": part == "enter"}
		more = "dialect \"ours\" {\n"
		for _, needed := range []string{"name", "enter"} {
			if !whole[needed] {
				more += examples["dialect."+needed] + "\n"
			}
		}
		more += example + "\n}"
	case name == "final_check.request":
		more = "final_check \"kept\" {\n" + example + "\n  holds = msg.totals.notices == messages.notices\n}"
	case name == "flood" || name == "spike":
		parts["tide"] = "tide {\n" + example + "\n  slack { lasts = \"1s\" }\n}"
	case name == "slack" || name == "ebb" || name == "wave":
		parts["tide"] = "tide {\n  flood \"100%\" { over = \"200ms\" }\n" + example + "\n}"
	case name == "connect":
		parts["session"] = strings.Replace(parts["session"], "connect {}", example, 1)
	case name == "session":
		more = example
	case vocabulary[""].has(name):
		more = example
	default: // a step
		parts["session"] = strings.Replace(parts["session"], "  pause", "  "+example+"\n  pause", 1)
	}
	all := []string{}
	for _, p := range []string{"trial", "target", "session", "crew", "tide"} {
		if name != "import" || p != "target" {
			all = append(all, parts[p])
		}
	}
	return strings.Join(append(all, more), "\n\n") + "\n"
}

// Blocks lists the blocks of the language that have an example to run.
func Blocks() []string { return keys(examples) }

func (b *blockWord) has(name string) bool {
	for _, other := range b.blocks {
		if other == name {
			return true
		}
	}
	return false
}
