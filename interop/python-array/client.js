const { Peer, talk, main } = require("../peer.js");

main((port) => talk(() => new Peer(`ws://127.0.0.1:${port}/board`), async (peer, name) => {
  peer.say(["hello", name]);
  await peer.until("hello");
  peer.say(["join", "lock-1"]);
  await peer.until("joined");
}, (peer, text) => peer.say(["post", "lock-1", text])));
