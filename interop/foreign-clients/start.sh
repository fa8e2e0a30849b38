#!/bin/sh
. "$HERE/../have.sh"
have_npm ws@8 eventsource@3
have_command curl curl
exec node "$HERE/clients.js" "$1"
