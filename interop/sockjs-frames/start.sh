#!/bin/sh
. "$HERE/../have.sh"
have_npm sockjs@0.3
exec node "$HERE/server.js" "$1"
