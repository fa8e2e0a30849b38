#!/bin/sh
# start.sh PORT, with CACHE set: where what is installed is kept
command -v npm >/dev/null || { echo "there is no npm" >&2; exit 77; }
mkdir -p "$CACHE/node" && cd "$CACHE/node" && [ -d node_modules/socket.io ] ||
  npm install --silent socket.io@4 >/dev/null 2>&1 || { echo "npm could not install socket.io" >&2; exit 77; }
NODE_PATH="$CACHE/node/node_modules" exec node "$HERE/server.js" "$1"
