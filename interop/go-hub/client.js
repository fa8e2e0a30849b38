const { Peer, talk, main } = require("../peer.js");

main((port) => talk((name) => new Peer(`ws://127.0.0.1:${port}/hub?name=${name}&room=lock-1`), async () => {
  await new Promise((go) => setTimeout(go, 50));
}, (peer, text) => peer.say(text)));
