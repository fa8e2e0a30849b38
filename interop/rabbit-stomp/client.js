// A STOMP client of the registry's.
const { main, until } = require("../peer.js");
const { Client } = require("@stomp/stompjs");

global.WebSocket = require("ws");

main(async (port) => {
  const join = (came) => new Promise((done, fail) => {
    const client = new Client({
      brokerURL: `ws://127.0.0.1:${port}/ws`, connectHeaders: { login: "guest", passcode: "guest" },
      heartbeatIncoming: 0, heartbeatOutgoing: 0, reconnectDelay: 0,
    });
    client.onConnect = () => {
      client.subscribe("/topic/lock-1", (message) => came.push(message.body), { receipt: "in" });
      client.watchForReceipt("in", () => done(client));
    };
    client.onStompError = client.onWebSocketError = fail;
    client.activate();
  });
  const came = { a: [], b: [] };
  const a = await join(came.a), b = await join(came.b);
  for (const [peer, body] of [[a, "berth 3 is free"], [b, "coming in"], [a, "mind the tide"]]) {
    peer.publish({ destination: "/topic/lock-1", body });
    await Promise.all([until(came.a, body), until(came.b, body)]);
  }
  await b.deactivate();
  await a.deactivate();
});
