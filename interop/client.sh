#!/bin/bash
# client.sh PORT, with HERE and CACHE set: two clients of another library than ours talk to
# the server at a port, for a recording.
. "$HERE/../have.sh"
if [ -f "$HERE/client.py" ]; then
  case $HERE in
    *text) have_python tornado.websocket python3-tornado ;;
    *) have_python websockets python3-websockets ;;
  esac
  exec "$python" "$HERE/client.py" "$1"
fi
have_npm ws@8
case $HERE in
  *packets) have_npm socket.io-client@4 ;;
  *sockjs-frames) have_npm sockjs-client@1 ;;
  *ruby-cable) have_npm @rails/actioncable@7.1.0 ;;
  *rabbit-stomp) have_npm @stomp/stompjs@7 ;;
  *mosquitto-mqtt) have_npm mqtt@5 ;;
esac
exec node "$HERE/client.js" "$1"
