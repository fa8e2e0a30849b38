#!/bin/sh
for python in "$CACHE/python/bin/python" python3 /usr/bin/python3; do
  command -v "$python" >/dev/null && "$python" -c "import tornado.web" 2>/dev/null && exec "$python" "$HERE/server.py" "$1"
done
python3 -m venv "$CACHE/python" >/dev/null 2>&1 && "$CACHE/python/bin/pip" install -q tornado >/dev/null 2>&1 &&
  exec "$CACHE/python/bin/python" "$HERE/server.py" "$1"
[ "$(id -u)" = 0 ] && command -v apt-get >/dev/null && apt-get install -qq -y python3-tornado >/dev/null 2>&1 &&
  exec /usr/bin/python3 "$HERE/server.py" "$1"
echo "neither pip nor the system's packages have tornado" >&2
exit 77
