// A harbour board on the sockjs library: its clients can do without WebSocket, so messages
// come as texts in a list behind a letter, over whatever carries them.
const http = require("http");
const sockjs = require("sockjs");

const truth = { received: 0, written: 0 };
const rooms = new Map(); // by name: the connections in it
const board = sockjs.createServer({ prefix: "/board", heartbeat_delay: 2000, log: () => {} });

board.on("connection", (conn) => {
  let mine = null;
  conn.on("data", (data) => {
    const m = JSON.parse(data);
    if (m.do === "join") {
      mine = m.room;
      if (!rooms.has(mine)) rooms.set(mine, new Set());
      rooms.get(mine).add(conn);
      conn.write(JSON.stringify({ did: "join", room: mine, again: process.env.CHANGED }));
    } else if (m.do === "post") {
      truth.received++;
      for (const other of rooms.get(mine) || []) {
        other.write(JSON.stringify({ did: "post", room: mine, text: m.text }));
        truth.written++;
      }
    }
  });
  conn.on("close", () => mine && rooms.get(mine).delete(conn));
});

const server = http.createServer((req, res) => req.url === "/truth" && res.end(JSON.stringify(truth)));
board.installHandlers(server);
server.listen(process.argv[2], "127.0.0.1", () => console.log("ready"));
