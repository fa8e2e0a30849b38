"""A harbour board on Django Channels: a room is a group, which several processes share over
Redis; the room stands in the path."""

import json
import os

import django
from django.conf import settings

redis_at = ("127.0.0.1", int(os.environ["REDIS_PORT"]))
settings.configure(
    ALLOWED_HOSTS=["*"], SECRET_KEY="not one", INSTALLED_APPS=["channels"],
    CHANNEL_LAYERS={"default": {"BACKEND": "channels_redis.core.RedisChannelLayer",
                                "CONFIG": {"hosts": [redis_at], "capacity": 1000}}})
django.setup()

import redis.asyncio  # noqa: E402: settings come first
from channels.generic.http import AsyncHttpConsumer  # noqa: E402
from channels.generic.websocket import AsyncWebsocketConsumer  # noqa: E402
from channels.routing import ProtocolTypeRouter, URLRouter  # noqa: E402
from django.urls import re_path  # noqa: E402

counts = redis.asyncio.Redis(host=redis_at[0], port=redis_at[1])


class Berth(AsyncWebsocketConsumer):
    async def connect(self):
        self.room = self.scope["url_route"]["kwargs"]["room"]
        await self.channel_layer.group_add(self.room, self.channel_name)
        await self.accept()
        await self.send(json.dumps({"type": "moored", "room": self.room} | ({"again": True} if os.getenv("CHANGED") else {})))

    async def disconnect(self, code):
        await self.channel_layer.group_discard(self.room, self.channel_name)

    async def receive(self, text_data=None, bytes_data=None):
        await counts.incr("received")
        said = json.loads(text_data)["message"]
        await self.channel_layer.group_send(self.room, {"type": "board.message", "message": said})

    async def board_message(self, event):
        await counts.incr("written")
        await self.send(json.dumps({"type": "message", "message": event["message"]}))


class Truth(AsyncHttpConsumer):
    async def handle(self, body):
        received, written = await counts.mget("received", "written")
        await self.send_response(200, json.dumps({"received": int(received or 0), "written": int(written or 0)}).encode())


application = ProtocolTypeRouter({
    "http": URLRouter([re_path("^truth$", Truth.as_asgi())]),
    "websocket": URLRouter([re_path(r"^berth/(?P<room>[\w-]+)/$", Berth.as_asgi())]),
})
