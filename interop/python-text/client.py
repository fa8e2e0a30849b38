"""The library's own client."""

import asyncio
import sys

from tornado.websocket import websocket_connect


async def join(name):
    peer = await websocket_connect("ws://127.0.0.1:%s/board" % sys.argv[1])
    await peer.read_message()
    await peer.write_message(name)
    await peer.read_message()
    return peer


async def main():
    a = await join("gull")
    b = await join("heron")
    for peer, text in ((a, "berth 3 is free"), (b, "coming in"), (a, "mind the tide")):
        await peer.write_message(text)
        for each in (a, b):
            assert text in await each.read_message()
    for peer in (b, a):
        peer.close()
        assert await peer.read_message() is None


asyncio.run(main())
