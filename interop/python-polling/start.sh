#!/bin/sh
. "$HERE/../have.sh"
have_python http.server python3
exec "$python" "$HERE/server.py" "$1"
