// Four clients that nobody here wrote, against the stand-in on a port: the ws library with
// compression, the eventsource library with fetch, curl that polls, and Node's datagrams. Each
// says 20 notices to the room that they share, and each must get all 80, once. The result is one line of JSON.
const { spawn } = require("child_process");
const WebSocket = require("ws");
const { EventSource } = require("eventsource");

const base = `127.0.0.1:${process.argv[2]}`;
const got = { ws: [], eventsource: [], curl: [], dgram: [] };

function hear(who, text) {
  const m = JSON.parse(text);
  if (m.kind === "notice") got[who].push(m.text);
  return m.kind;
}

function talk(who, say, after) {
  say({ kind: "name", name: who });
  setTimeout(() => say({ kind: "enter", room: "lock-1" }), 300);
  for (let i = 0; i < 20; i++) setTimeout(() => say({ kind: "notice", room: "lock-1", text: `${who} ${i}` }), after + 25 * i);
}

const poster = (path, who) => (m) =>
  fetch(`http://${base}${path}?client=${who}`, { method: "POST", body: JSON.stringify(m) });

const socket = new WebSocket(`ws://${base}/live`);
socket.on("open", () => talk("ws", (m) => socket.send(JSON.stringify(m)), 2000));
socket.on("message", (data) => hear("ws", data));

const datagrams = require("dgram").createSocket("udp4");
datagrams.on("message", (data) => hear("dgram", data));
datagrams.connect(+process.argv[2], "127.0.0.1", () => talk("dgram", (m) => datagrams.send(JSON.stringify(m)), 2000));

const events = new EventSource(`http://${base}/events?client=eventsource`);
events.onopen = () => talk("eventsource", poster("/events", "eventsource"), 2000);
events.onmessage = (e) => hear("eventsource", e.data);

let begun = false;
function poll() {
  const curl = spawn("curl", ["-s", `http://${base}/poll?client=curl`]);
  let text = "";
  curl.stdout.on("data", (d) => (text += d));
  curl.on("close", () => {
    text.split("\n").filter(Boolean).forEach((line) => hear("curl", line));
    if (!begun) {
      begun = true;
      talk("curl", poster("/poll", "curl"), 2000);
    }
    poll();
  });
}
poll();

setTimeout(() => {
  const result = { deflate: socket.extensions.includes?.("deflate") ?? String(socket.extensions).includes("deflate") };
  for (const who in got) result[who] = { came: got[who].length, different: new Set(got[who]).size };
  console.log(JSON.stringify(result));
  process.exit();
}, 6000);
