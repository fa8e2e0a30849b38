#!/bin/sh
. "$HERE/../have.sh"
go_server envelope github.com/coder/websocket@v1.8.12
exec ./envelope "$1"
