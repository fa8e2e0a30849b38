"""A harbour board on the websockets library, which compresses every message."""

import asyncio
import http
import json
import sys

import websockets

truth = {"received": 0, "written": 0, "compressed": 0}
rooms, past = {}, {}


async def board(socket, *_):
    truth["compressed"] += any("deflate" in e.name for e in socket.extensions)
    name, mine = "", set()
    try:
        async for text in socket:
            m = json.loads(text)
            if m["do"] == "hello":
                name = m["name"]
                await socket.send(json.dumps({"did": "hello"}))
            elif m["do"] == "join":
                if m.get("past"):  # nothing is waited for from here on until it is among those who are told
                    for out in past.get(m["room"], []):
                        websockets.broadcast({socket}, out.replace('"did": "post"', '"did": "past"'))
                rooms.setdefault(m["room"], set()).add(socket)
                mine.add(m["room"])
                await socket.send(json.dumps({"did": "join", "room": m["room"]}))
            elif m["do"] == "post":
                truth["received"] += 1
                out = json.dumps({"did": "post", "room": m["room"], "from": name, "text": m["text"]})
                past[m["room"]] = (past.get(m["room"], []) + [out])[-200:]
                truth["written"] += len(rooms[m["room"]])
                websockets.broadcast(rooms[m["room"]], out)  # it waits for nobody
    finally:
        for room in mine:
            rooms[room].discard(socket)


async def plain(path, *_):
    if path == "/truth":
        return http.HTTPStatus.OK, [], json.dumps(truth).encode()


async def main():
    async with websockets.serve(board, "127.0.0.1", int(sys.argv[1]), process_request=plain, ping_interval=None):
        print("ready", flush=True)
        await asyncio.Future()


asyncio.run(main())
