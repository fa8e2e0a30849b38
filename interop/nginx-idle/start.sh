#!/bin/bash
# nginx at port 1, before the server of node-ws at port 3: it cuts what is idle for 3 s.
. "$HERE/../have.sh"
have_command nginx nginx-light
have_npm ws@8
at=$(mktemp -d)
BEAT=60000 node "$HERE/../node-ws/server.js" "$3" >/dev/null &
sed "s/FRONT/$1/; s/SOCKETS/$3/; s#AT#$at#g" "$HERE/nginx.conf" >"$at/nginx.conf"
nginx -p "$at" -e "$at/error.log" -c "$at/nginx.conf" -g "daemon off;" >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$3" "$1"
wait
