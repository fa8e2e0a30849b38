// The library's own client, over WebSocket.
const { main, talk, until } = require("../peer.js");
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
  until(part) {
    return until(this.came, part);
  }
  close() {
    this.socket.close();
    return new Promise((done) => (this.socket.onclose = done));
  }
}

main((port) => talk(() => new Peer(`http://127.0.0.1:${port}/board`), async (peer) => {
  peer.say({ do: "join", room: "lock-1" });
  await peer.until("join");
}, (peer, text) => peer.say({ do: "post", text })));
