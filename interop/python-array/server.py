"""A harbour board on aiohttp: each message is a JSON list that begins with what it is."""

import os
import sys

from aiohttp import WSMsgType, web

truth = {"received": 0, "written": 0}
rooms = {}


async def board(request):
    socket = web.WebSocketResponse(heartbeat=2)
    await socket.prepare(request)
    name = None
    try:
        async for message in socket:
            if message.type != WSMsgType.TEXT:
                continue
            what, *rest = message.json()
            if what == "hello":
                name = rest[0]
                await socket.send_json(["hello", name])
            elif what == "join":
                rooms.setdefault(rest[0], []).append(socket)
                await socket.send_json(["joined", rest[0], str(len(rooms[rest[0]])) if os.getenv("CHANGED") else len(rooms[rest[0]])])
            elif what == "post":
                truth["received"] += 1
                for other in list(rooms.get(rest[0], [])):
                    truth["written"] += 1
                    await other.send_json(["post", rest[0], name, rest[1]])
    except ConnectionError:
        pass
    finally:
        for members in rooms.values():
            if socket in members:
                members.remove(socket)
    return socket


async def tell(request):
    return web.json_response(truth)



app = web.Application()
app.add_routes([web.get("/board", board), web.get("/truth", tell)])

if __name__ == "__main__":
    web.run_app(app, host="127.0.0.1", port=int(sys.argv[1]), print=lambda *_: print("ready", flush=True))
