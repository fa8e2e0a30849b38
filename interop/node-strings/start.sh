#!/bin/sh
. "$HERE/../have.sh"
have_npm websocket@1
exec node "$HERE/server.js" "$1"
