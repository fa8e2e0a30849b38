"""A harbour board on asyncio's datagrams: each is one JSON message; it counts at its second
port. Who says goodbye, or is gone when it is sent something, is forgotten."""

import asyncio
import json
import socket
import sys
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

truth = {"received": 0, "written": 0}
names = {}
rooms = {}


class Board(asyncio.DatagramProtocol):
    def connection_made(self, transport):
        self.transport = transport

    def say(self, m, to):
        self.transport.sendto(json.dumps(m).encode(), to)

    def datagram_received(self, data, came_from):
        m = json.loads(data)
        if m["do"] == "hello":
            names[came_from] = m["name"]
            self.say({"did": "hello"}, came_from)
        elif m["do"] == "join":
            rooms.setdefault(m["room"], set()).add(came_from)
            self.say({"did": "join", "room": m["room"]}, came_from)
        elif m["do"] == "bye":
            names.pop(came_from, None)
            for room in rooms.values():
                room.discard(came_from)
        elif m["do"] == "post":
            truth["received"] += 1
            for other in rooms[m["room"]]:
                truth["written"] += 1
                self.say({"did": "post", "room": m["room"], "from": names[came_from], "text": m["text"]}, other)


class Counts(BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.end_headers()
        self.wfile.write(json.dumps(truth).encode())

    def log_message(self, *_):
        pass


async def serve():
    at = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    at.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
    at.bind(("127.0.0.1", int(sys.argv[1])))
    at.setblocking(False)
    await asyncio.get_running_loop().create_datagram_endpoint(Board, sock=at)
    print("ready", flush=True)
    await asyncio.Event().wait()


counts = HTTPServer(("127.0.0.1", int(sys.argv[2])), Counts)
threading.Thread(target=counts.serve_forever, daemon=True).start()
asyncio.run(serve())
