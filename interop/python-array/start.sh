#!/bin/sh
. "$HERE/../have.sh"
have_python aiohttp python3-aiohttp
exec "$python" "$HERE/server.py" "$1"
