// An MQTT client of the registry's.
const { main, until } = require("../peer.js");
const mqtt = require("mqtt");

main(async (port) => {
  const join = async (clientId, came) => {
    const client = await mqtt.connectAsync(`ws://127.0.0.1:${port}/`, { clientId, reconnectPeriod: 0 });
    client.on("message", (topic, payload) => came.push(payload.toString()));
    await client.subscribeAsync("lock-1");
    await client.subscribeAsync("harbour-office", { qos: 1 });
    return client;
  };
  const came = { a: [], b: [] };
  const a = await join("lighthouse-a", came.a), b = await join("lighthouse-b", came.b);
  for (const [peer, text] of [[a, "berth 3 is free"], [b, "coming in"], [a, "mind the tide"]]) {
    await peer.publishAsync("lock-1", text);
    await Promise.all([until(came.a, text), until(came.b, text)]);
  }
  await b.endAsync();
  await a.endAsync();
});
