#!/bin/sh
. "$HERE/../have.sh"
have_python tornado.web python3-tornado
exec "$python" "$HERE/server.py" "$1"
