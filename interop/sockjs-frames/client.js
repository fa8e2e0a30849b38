// The library's own client, over WebSocket.
const { main } = require("../peer.js");
const SockJS = require("sockjs-client");

class Peer {
  constructor(url) {
    this.came = [];
    this.socket = new SockJS(url, null, { transports: ["websocket"] });
    this.socket.onmessage = (e) => this.came.push(e.data);
  }
  open() {
    return new Promise((done) => (this.socket.onopen = done));
  }
  say(what) {
    this.socket.send(JSON.stringify(what));
  }
  async until(part) {
    for (let tries = 0; tries < 200; tries++) {
      const at = this.came.findIndex((text) => text.includes(part));
      if (at >= 0) return this.came.splice(at, 1)[0];
      await new Promise((go) => setTimeout(go, 25));
    }
    throw new Error("it did not come: " + part);
  }
  close() {
    this.socket.close();
    return new Promise((done) => (this.socket.onclose = done));
  }
}

main((port) => require("../peer.js").talk(() => new Peer(`http://127.0.0.1:${port}/board`), async (peer) => {
  peer.say({ do: "join", room: "lock-1" });
  await peer.until("join");
}, (peer, text) => peer.say({ do: "post", text })));
