#!/bin/bash
# Mosquitto with MQTT over WebSocket at port 1; it does not start without a plain listener,
# which is at port 2.
PATH=$PATH:/usr/sbin
. "$HERE/../have.sh"
have_command mosquitto mosquitto
at=$(mktemp)
cat >"$at" <<CONF
allow_anonymous true
set_tcp_nodelay true
listener $2 127.0.0.1
listener $1 127.0.0.1
protocol websockets
CONF
[ -z "$CHANGED" ] || echo "max_qos 0" >>"$at" # less than is asked for
mosquitto -c "$at" >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$1"
wait
