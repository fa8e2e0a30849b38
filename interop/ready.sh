# Sourced with ports: says that the server is ready once something listens at each.
for port in "$@"; do
  tries=0
  until (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null; do
    tries=$((tries + 1))
    [ $tries -lt 600 ] || exit 77
    sleep 0.1
  done
done
sleep 0.3 # some listen before they can answer
echo ready
