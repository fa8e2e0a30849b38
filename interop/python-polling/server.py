"""A harbour board on Python's http.server: long polls that are answered with a list, in gzip
if it is a long one, and POST for what clients say."""

import collections
import gzip
import json
import sys
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, urlsplit

truth = {"received": 0, "written": 0}
change = threading.Condition()
waiting = collections.defaultdict(list)  # what each client has not been given
rooms = collections.defaultdict(set)
names = {}


class Board(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def answer(self, status, content=b"", **fields):
        self.send_response(status)
        for name, value in fields.items():
            self.send_header(name.replace("_", "-"), value)
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    def who(self):
        return parse_qs(urlsplit(self.path).query).get("id", [""])[0]

    def do_GET(self):
        if self.path == "/truth":
            return self.answer(200, json.dumps(truth).encode())
        who = self.who()
        with change:
            names.setdefault(who, "")
            change.wait_for(lambda: waiting[who], 3)
            news, waiting[who] = waiting[who], []
        if not news:
            return self.answer(204)
        content = json.dumps(news).encode()
        if len(news) < 3:
            return self.answer(200, content, Content_Type="application/json")
        self.answer(200, gzip.compress(content), Content_Type="application/json", Content_Encoding="gzip")

    def do_POST(self):
        who, m = self.who(), json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        with change:
            if m["do"] == "hello":
                names[who] = m["name"]
                waiting[who].append({"did": "hello"})
            elif m["do"] == "join":
                rooms[m["room"]].add(who)
                waiting[who].append({"did": "join", "room": m["room"]})
            elif m["do"] == "post":
                truth["received"] += 1
                for other in rooms[m["room"]]:
                    truth["written"] += 1
                    waiting[other].append({"did": "post", "room": m["room"], "from": names[who], "text": m["text"]})
            change.notify_all()
        self.answer(202, b"noted")

    def do_DELETE(self):
        who = self.who()
        with change:
            for room in rooms.values():
                room.discard(who)
        self.answer(204)

    def log_message(self, *_):
        pass


class Server(ThreadingHTTPServer):
    request_queue_size = 500
    daemon_threads = True


server = Server(("127.0.0.1", int(sys.argv[1])), Board)
print("ready", flush=True)
server.serve_forever()
