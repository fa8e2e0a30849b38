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
if [ -n "$CHANGED" ]; then # nobody may hear of the office
  printf 'topic readwrite lock-1\n' >"$at.acl"
  chmod 644 "$at.acl"
  echo "acl_file $at.acl" >>"$at"
fi
mosquitto -c "$at" >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$1"
wait
