#!/bin/sh
. "$HERE/../have.sh"
have_python asyncio python3
exec "$python" "$HERE/server.py" "$1" "$2"
