#!/bin/bash
# nginx at port 1, before the servers of go-events at port 3 and of node-ws at port 4: it ends
# TLS, lets no upgrade through at /stripped, keeps streams back at /buffered, and cuts what
# is idle for 2 s.
. "$HERE/../have.sh"
have_command nginx nginx-light
have_command openssl openssl
have_npm ws@8
have_command go golang
mkdir -p "$CACHE/events" && cp "$HERE/../go-events/server.go.txt" "$CACHE/events/main.go" &&
  (cd "$CACHE/events" && { [ -f go.mod ] || go mod init events >/dev/null 2>&1; } && go build -o events .) ||
  lack "go could not build the server"
at=$(mktemp -d)
openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 2 -keyout "$at/key.pem" -out "$at/cert.pem" \
  -subj /CN=localhost -addext subjectAltName=DNS:localhost,IP:127.0.0.1 >/dev/null 2>&1 || lack "openssl made no certificate"
"$CACHE/events/events" "$3" >/dev/null 2>&1 &
node "$HERE/../node-ws/server.js" "$4" >/dev/null &
sed "s/FRONT/$1/; s/EVENTS/$3/g; s/SOCKETS/$4/g; s#AT#$at#g" "$HERE/nginx.conf" >"$at/nginx.conf"
nginx -p "$at" -e "$at/error.log" -c "$at/nginx.conf" -g "daemon off;" >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$3" "$4" "$1"
wait
