// A harbour board on the socket.io library: events in packets with digits in front.
const http = require("http");
const { Server } = require("socket.io");

const truth = { received: 0, written: 0 };
const server = http.createServer((req, res) => {
  if (req.url === "/truth") res.end(JSON.stringify(truth));
});
const io = new Server(server, { pingInterval: 2000, pingTimeout: 2000 });

io.on("connection", (socket) => {
  socket.on("hello", (m) => {
    socket.data.name = m.name;
    socket.emit("hello", { again: process.env.CHANGED });
  });
  socket.on("join", (m) => {
    socket.join(m.room);
    socket.emit("joined", { room: m.room });
  });
  socket.on("post", (m) => {
    truth.received++;
    truth.written += (io.sockets.adapter.rooms.get(m.room) || { size: 0 }).size;
    io.to(m.room).emit("post", { room: m.room, from: socket.data.name, text: m.text });
  });
});
server.listen(process.argv[2], "127.0.0.1", () => console.log("ready"));
