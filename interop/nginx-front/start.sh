#!/bin/bash
# nginx at port 1, before the server of node-ws at port 2.
. "$HERE/../have.sh"
have_command nginx nginx-light
have_npm ws@8
node "$HERE/../node-ws/server.js" "$2" >/dev/null &
at=$(mktemp -d)
sed "s/FRONT/$1/; s/BEHIND/$2/; s#AT#$at#g" "$HERE/nginx.conf" >"$at/nginx.conf"
nginx -p "$at" -e "$at/error.log" -c "$at/nginx.conf" -g "daemon off;" >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$2" "$1"
wait
