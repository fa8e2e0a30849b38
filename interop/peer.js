// A client on the ws library for the recordings of interop: it says texts and waits for
// those that hold something, each of them once.
const WebSocket = require("ws");

// until takes the first text that holds a part out of those that came, once it is there.
async function until(came, part, ended = () => false) {
  for (let tries = 0; tries < 200; tries++) {
    const at = came.findIndex((text) => text.includes(part));
    if (at >= 0) return came.splice(at, 1)[0];
    if (ended()) break;
    await new Promise((go) => setTimeout(go, 25));
  }
  throw new Error("it did not come: " + part);
}

class Peer {
  constructor(url, protocols) {
    this.came = [];
    this.ended = false;
    this.socket = new WebSocket(url, protocols || []);
    this.socket.on("message", (data) => this.came.push(data.toString()));
    this.socket.on("close", () => (this.ended = true));
    this.socket.on("error", () => (this.ended = true));
  }

  open() {
    return new Promise((done, fail) => {
      this.socket.on("open", done);
      this.socket.on("error", fail);
    });
  }

  say(what) {
    this.socket.send(typeof what === "string" ? what : JSON.stringify(what));
  }

  until(part) {
    return until(this.came, part, () => this.ended);
  }

  close() {
    this.socket.close(1000);
    return new Promise((done) => this.socket.on("close", done));
  }
}

// talk plays a conversation of two peers: enter(peer, name) lets one in, post(peer, text)
// says something, and what both then get holds the text.
async function talk(make, enter, post) {
  const a = make("gull"), b = make("heron");
  await Promise.all([a.open(), b.open()]);
  await enter(a, "gull");
  await enter(b, "heron");
  for (const [peer, text] of [[a, "berth 3 is free"], [b, "coming in"], [a, "mind the tide"]]) {
    post(peer, text);
    await Promise.all([a.until(text), b.until(text)]);
  }
  await b.close();
  await a.close();
}

function main(conversation) {
  conversation(process.argv[2]).then(() => process.exit(0), (e) => {
    console.error(e.message);
    process.exit(1);
  });
}

module.exports = { Peer, talk, main, until };
