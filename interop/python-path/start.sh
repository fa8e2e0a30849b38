#!/bin/sh
. "$HERE/../have.sh"
have_python uvicorn,starlette,websockets python3-uvicorn python3-starlette python3-websockets
exec "$python" "$HERE/server.py" "$1"
