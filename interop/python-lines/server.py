"""A harbour board on Python's socketserver: JSON in lines that end in CR LF; it counts at its
second port."""

import json
import queue
import socketserver
import sys
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

truth = {"received": 0, "written": 0}
lock = threading.Lock()
rooms = {}


class Board(socketserver.StreamRequestHandler):
    def say(self, m):
        try:
            self.waiting.put_nowait(json.dumps(m).encode() + b"\r\n")
        except queue.Full:  # it does not read
            self.connection.close()

    def write(self):
        try:
            while (line := self.waiting.get()) is not None:
                self.wfile.write(line)
        except (OSError, ValueError):  # it is gone
            pass

    def handle(self):
        self.waiting = queue.Queue(2000)
        threading.Thread(target=self.write, daemon=True).start()
        name = ""
        try:
            for line in self.rfile:
                m = json.loads(line)
                with lock:
                    if m["do"] == "hello":
                        name = m["name"]
                        self.say({"did": "hello"})
                    elif m["do"] == "join":
                        rooms.setdefault(m["room"], set()).add(self)
                        self.say({"did": "join", "room": m["room"]})
                    elif m["do"] == "post":
                        truth["received"] += 1
                        for other in rooms[m["room"]]:
                            truth["written"] += 1
                            other.say({"did": "post", "room": m["room"], "from": name, "text": m["text"]})
        finally:
            with lock:
                for room in rooms.values():
                    room.discard(self)
            self.waiting.put(None)


class Counts(BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.end_headers()
        self.wfile.write(json.dumps(truth).encode())

    def log_message(self, *_):
        pass


class Server(socketserver.ThreadingTCPServer):
    request_queue_size = 500
    allow_reuse_address = True
    daemon_threads = True


server = Server(("127.0.0.1", int(sys.argv[1])), Board)
counts = HTTPServer(("127.0.0.1", int(sys.argv[2])), Counts)
threading.Thread(target=counts.serve_forever, daemon=True).start()
print("ready", flush=True)
server.serve_forever()
