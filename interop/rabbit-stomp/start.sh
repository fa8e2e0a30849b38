#!/bin/bash
# RabbitMQ with STOMP over WebSocket at port 1; ports 2 to 4 are its own.
. "$HERE/../have.sh"
rabbit=/usr/lib/rabbitmq/bin/rabbitmq-server
[ -x $rabbit ] || install rabbitmq-server
[ -x $rabbit ] || lack "there is no RabbitMQ, and the system's packages could not give it"
at=$(mktemp -d)
cat >"$at/rabbit.conf" <<CONF
listeners.tcp.1 = 127.0.0.1:$2
web_stomp.tcp.ip = 127.0.0.1
web_stomp.tcp.port = $1
CONF
[ -z "$CHANGED" ] || echo "stomp.hide_server_info = true" >>"$at/rabbit.conf"
echo "[rabbitmq_web_stomp]." >"$at/plugins"
export HOME="$at" ERL_EPMD_PORT="$3" ERL_EPMD_ADDRESS=127.0.0.1 RABBITMQ_DIST_PORT="$4" RABBITMQ_NODENAME="board$1@localhost" \
  RABBITMQ_MNESIA_BASE="$at/mnesia" RABBITMQ_LOG_BASE="$at/log" RABBITMQ_LOGS="$at/log/all" \
  RABBITMQ_CONFIG_FILE="$at/rabbit" RABBITMQ_ENABLED_PLUGINS_FILE="$at/plugins" RABBITMQ_PID_FILE="$at/pid" \
  RABBITMQ_ADVANCED_CONFIG_FILE="$at/none" RABBITMQ_CONF_ENV_FILE="$at/none"
epmd -port "$3" -address 127.0.0.1 >/dev/null 2>&1 &
$rabbit >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$1"
wait
