#!/bin/sh
. "$HERE/../have.sh"
have_command go golang
mkdir -p "$CACHE/envelope" && cp "$HERE/server.go.txt" "$CACHE/envelope/main.go" && cd "$CACHE/envelope" || exit 77
[ -f go.mod ] || go mod init envelope >/dev/null 2>&1
go get github.com/coder/websocket@v1.8.12 >/dev/null 2>&1 && go build -o envelope . ||
  lack "go could not get coder/websocket"
exec ./envelope "$1"
