"""A client on the websockets library."""

import asyncio
import json
import sys

import websockets


async def until(peer, part):
    while part not in await asyncio.wait_for(peer.recv(), 5):
        pass


async def main():
    at = "ws://127.0.0.1:%s/berth/lock-1/" % sys.argv[1]
    async with websockets.connect(at) as a:
        await until(a, "moored")
        async with websockets.connect(at) as b:
            await until(b, "moored")
            for peer, text in ((a, "berth 3 is free"), (b, "coming in"), (a, "mind the tide")):
                await peer.send(json.dumps({"message": text}))
                for each in (a, b):
                    await until(each, text)


asyncio.run(main())
