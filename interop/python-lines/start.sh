#!/bin/sh
. "$HERE/../have.sh"
have_python socketserver python3
"$python" "$HERE/server.py" "$1" "$2"
