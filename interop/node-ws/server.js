// A harbour board on the ws library: JSON with a field "do" that says what is wanted.
const http = require("http");
const { WebSocketServer } = require("ws");

const truth = { received: 0, written: 0 };
const rooms = new Map(); // by name: the sockets in it
const server = http.createServer((req, res) => res.end(JSON.stringify(truth)));
const wss = new WebSocketServer({ server });

wss.on("connection", (socket) => {
  let name = "";
  const mine = new Set();
  let missed = 0;
  const beat = setInterval(() => {
    if (missed++ > 1) return socket.terminate();
    socket.ping();
  }, +process.env.BEAT || 1500);
  socket.on("pong", () => (missed = 0));
  socket.on("error", () => {}); // a bad frame: the library closes the connection
  socket.on("message", (data) => {
    let m;
    try {
      m = JSON.parse(data) || {};
    } catch (error) {
      return socket.close(1007, "that is no JSON");
    }
    if (m.do === "hello") {
      name = m.name;
      socket.send(JSON.stringify({ did: "hello", again: process.env.CHANGED }));
    } else if (m.do === "join") {
      if (!rooms.has(m.room)) rooms.set(m.room, new Set());
      rooms.get(m.room).add(socket);
      mine.add(m.room);
      socket.send(JSON.stringify({ did: "join", room: m.room }));
    } else if (m.do === "post") {
      truth.received++;
      for (const other of rooms.get(m.room) || []) {
        other.send(JSON.stringify({ did: "post", room: m.room, from: name, text: m.text }));
        truth.written++;
      }
    }
  });
  socket.on("close", () => clearInterval(beat));
  socket.on("close", () => mine.forEach((r) => rooms.get(r).delete(socket)));
});
server.listen(process.argv[2], "127.0.0.1", () => console.log("ready"));
