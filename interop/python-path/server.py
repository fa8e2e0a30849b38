"""A harbour board on Starlette, served by uvicorn: one's name stands in the path, who
speaks is answered, and everybody is told."""

import json
import os
import sys

import uvicorn
from starlette.applications import Starlette
from starlette.responses import Response
from starlette.routing import Route, WebSocketRoute
from starlette.websockets import WebSocketDisconnect

truth = {"received": 0, "written": 0}
here = []


async def quay(socket):
    await socket.accept()
    name = socket.path_params["name"]
    here.append(socket)
    try:
        await socket.send_text(("on the quay, too: " if os.getenv("CHANGED") else "on the quay: ") + name)
        while True:
            said = await socket.receive_text()
            truth["received"] += 1
            await socket.send_text("you said: " + said)
            for other in list(here):
                try:
                    await other.send_text(name + " says: " + said)
                    truth["written"] += 1
                except Exception:  # it has just gone, whatever it died of
                    pass
    except WebSocketDisconnect:
        pass
    finally:
        here.remove(socket)


async def tell(request):
    return Response(json.dumps(truth))


app = Starlette(routes=[WebSocketRoute("/quay/{name}", quay), Route("/truth", tell)],
                on_startup=[lambda: print("ready", flush=True)])

if __name__ == "__main__":
    uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[1]), log_level="critical", ws="websockets",
                ws_ping_interval=2, ws_ping_timeout=2)
