#!/bin/sh
. "$HERE/../have.sh"
have_npm ws@8
exec node "$HERE/server.js" "$1"
