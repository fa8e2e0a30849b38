const { Peer, talk, main } = require("../peer.js");

main((port) => talk(() => new Peer(`ws://127.0.0.1:${port}/`), async (peer, name) => {
  peer.say({ do: "hello", name });
  await peer.until('"hello"');
  peer.say({ do: "join", room: "lock-1" });
  await peer.until('"join"');
}, (peer, text) => peer.say({ do: "post", room: "lock-1", text })));
