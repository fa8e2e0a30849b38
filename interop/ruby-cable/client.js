// The library's own client.
global.self = global; // it is made for browsers
const { main, until } = require("../peer.js");
const { adapters, createConsumer } = require("@rails/actioncable");

adapters.WebSocket = require("ws");
global.document = { addEventListener() {}, removeEventListener() {}, visibilityState: "visible" };
global.addEventListener = global.removeEventListener = () => {};

main(async (port) => {
  const came = { a: [], b: [] };
  const join = async (who) => {
    const consumer = createConsumer(`ws://127.0.0.1:${port}/cable`);
    const subscription = consumer.subscriptions.create({ channel: "BoardChannel", room: "lock-1" }, {
      connected: () => came[who].push("connected"),
      received: (message) => came[who].push(message.text),
    });
    await until(came[who], "connected");
    return { consumer, subscription };
  };
  const a = await join("a"), b = await join("b");
  for (const [peer, text] of [[a, "berth 3 is free"], [b, "coming in"], [a, "mind the tide"]]) {
    peer.subscription.perform("post", { text });
    await Promise.all([until(came.a, text), until(came.b, text)]);
  }
  b.consumer.disconnect();
  a.consumer.disconnect();
  await new Promise((go) => setTimeout(go, 200));
});
