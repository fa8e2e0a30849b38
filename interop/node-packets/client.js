// The library's own client.
const { main } = require("../peer.js");
const { io } = require("socket.io-client");

main(async (port) => {
  const once = (socket, event) => new Promise((done) => socket.once(event, done));
  const join = async (name) => {
    const socket = io(`http://127.0.0.1:${port}`, { transports: ["websocket"], forceNew: true });
    await once(socket, "connect");
    socket.emit("hello", { name });
    await once(socket, "hello");
    socket.emit("join", { room: "lock-1" });
    await once(socket, "joined");
    return socket;
  };
  const a = await join("gull"), b = await join("heron");
  for (const [peer, text] of [[a, "berth 3 is free"], [b, "coming in"], [a, "mind the tide"]]) {
    const both = Promise.all([once(a, "post"), once(b, "post")]);
    peer.emit("post", { room: "lock-1", text });
    await both;
  }
  b.disconnect();
  a.disconnect();
  await new Promise((go) => setTimeout(go, 200));
});
