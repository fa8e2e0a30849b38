#!/bin/sh
. "$HERE/../have.sh"
go_server hub github.com/gorilla/websocket@v1.5.3
exec ./hub "$1"
