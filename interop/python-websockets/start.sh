#!/bin/sh
. "$HERE/../have.sh"
have_python websockets python3-websockets
exec "$python" "$HERE/server.py" "$1"
