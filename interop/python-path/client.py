"""A client on the websockets library."""

import asyncio
import sys

import websockets


async def until(peer, part):
    while part not in await asyncio.wait_for(peer.recv(), 5):
        pass


async def main():
    at = "ws://127.0.0.1:%s/quay/" % sys.argv[1]
    async with websockets.connect(at + "gull") as a:
        await until(a, "on the quay")
        async with websockets.connect(at + "heron") as b:
            await until(b, "on the quay")
            for peer, text in ((a, "berth 3 is free"), (b, "coming in"), (a, "mind the tide")):
                await peer.send(text)
                for each in (a, b):
                    await until(each, "says: " + text)


asyncio.run(main())
