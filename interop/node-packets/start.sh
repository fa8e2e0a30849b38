#!/bin/sh
. "$HERE/../have.sh"
have_npm socket.io@4
exec node "$HERE/server.js" "$1"
