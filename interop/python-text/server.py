"""A harbour board on Tornado: plain text; saying one's name is entering the one room."""

import json
import os
import sys

import tornado.ioloop
import tornado.web
import tornado.websocket

truth = {"received": 0, "written": 0}
here = {}


class Board(tornado.websocket.WebSocketHandler):
    def open(self):
        self.name = None
        self.write_message("who is there?")

    def on_message(self, message):
        if self.name is None:
            self.name = message
            here[self] = message
            self.write_message(("good morning " if os.getenv("CHANGED") else "welcome ") + message)
            return
        truth["received"] += 1
        for other in here:
            other.write_message("%s: %s" % (self.name, message))
            truth["written"] += 1

    def on_close(self):
        here.pop(self, None)


class Truth(tornado.web.RequestHandler):
    def get(self):
        self.write(json.dumps(truth))


if __name__ == "__main__":
    tornado.web.Application([("/board", Board), ("/truth", Truth)], websocket_ping_interval=2, websocket_ping_timeout=5).listen(int(sys.argv[1]), "127.0.0.1")
    print("ready", flush=True)
    tornado.ioloop.IOLoop.current().start()
