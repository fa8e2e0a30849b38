// A harbour board on the websocket library: JSON whose data is JSON again, in a string.
const http = require("http");
const { server: Server } = require("websocket");

const truth = { received: 0, written: 0 };
const rooms = new Map(); // by name: the connections in it
const web = http.createServer((req, res) => res.end(JSON.stringify(truth)));
const board = new Server({
  httpServer: web, keepaliveInterval: 2000, keepaliveGracePeriod: 2000, dropConnectionOnKeepaliveTimeout: true,
});
const wrapped = (type, data) => JSON.stringify({ type, data: JSON.stringify(data) });

board.on("request", (request) => {
  const conn = request.accept(null, request.origin);
  let mine = null;
  conn.on("message", (message) => {
    let m, data;
    try {
      m = JSON.parse(message.utf8Data);
      data = JSON.parse(m.data);
    } catch (error) {
      return conn.drop(1007, "that is no JSON");
    }
    if (m.type === "join") {
      mine = data.room;
      if (!rooms.has(mine)) rooms.set(mine, new Set());
      rooms.get(mine).add(conn);
      conn.sendUTF(wrapped("joined", { room: mine, again: process.env.CHANGED }));
    } else if (m.type === "post") {
      truth.received++;
      for (const other of rooms.get(mine) || []) {
        other.sendUTF(wrapped("post", { room: mine, text: data.text }));
        truth.written++;
      }
    }
  });
  conn.on("close", () => mine && rooms.get(mine).delete(conn));
});
web.listen(process.argv[2], "127.0.0.1", () => console.log("ready"));
