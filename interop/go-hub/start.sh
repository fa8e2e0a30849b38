#!/bin/sh
. "$HERE/../have.sh"
have_command go golang
mkdir -p "$CACHE/hub" && cp "$HERE/server.go.txt" "$CACHE/hub/main.go" && cd "$CACHE/hub" || exit 77
[ -f go.mod ] || go mod init hub >/dev/null 2>&1
go get github.com/gorilla/websocket@v1.5.3 >/dev/null 2>&1 && go build -o hub . ||
  lack "go could not get gorilla/websocket"
exec ./hub "$1"
