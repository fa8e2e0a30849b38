#!/bin/sh
. "$HERE/../have.sh"
have_command go golang
mkdir -p "$CACHE/events" && cp "$HERE/server.go.txt" "$CACHE/events/main.go" && cd "$CACHE/events" || exit 77
[ -f go.mod ] || go mod init events >/dev/null 2>&1
go build -o events . || lack "go could not build the server"
exec ./events "$1"
