#!/bin/bash
# Two processes of the server, at ports 1 and 2, with a Redis of their own at port 3.
. "$HERE/../have.sh"
have_command redis-server redis-server
have_python channels,channels_redis,daphne,redis python3-django-channels python3-channels-redis python3-daphne python3-redis
redis-server --bind 127.0.0.1 --port "$3" --save "" --appendonly no --daemonize no >/dev/null 2>&1 &
export REDIS_PORT="$3" PYTHONPATH="$HERE"
"$python" -m daphne -b 127.0.0.1 -p "$2" --ping-interval 2 --ping-timeout 2 server:application >/dev/null 2>&1 &
"$python" -m daphne -b 127.0.0.1 -p "$1" --ping-interval 2 --ping-timeout 2 server:application >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$1" "$2" "$3"
wait
