const { Peer, talk, main } = require("../peer.js");

const wrapped = (type, data) => ({ type, data: JSON.stringify(data) });
main((port) => talk(() => new Peer(`ws://127.0.0.1:${port}/`), async (peer) => {
  peer.say(wrapped("join", { room: "lock-1" }));
  await peer.until("joined");
}, (peer, text) => peer.say(wrapped("post", { text }))));
