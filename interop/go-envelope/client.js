const { Peer, talk, main } = require("../peer.js");

main((port) => talk(() => new Peer(`ws://127.0.0.1:${port}/board`, ["board.v1"]), async (peer) => {
  peer.say({ event: "join", data: { room: "lock-1" } });
  await peer.until("joined");
}, (peer, text) => peer.say({ event: "post", data: { text } })));
