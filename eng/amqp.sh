#!/usr/bin/env bash
# A private AMQP 1.0 broker for tests, examples and benchmarks: its files in a folder of its own, on free loopback ports,
# run by an unprivileged user. Nothing of the machine's own is touched.
#
#   eng/amqp.sh install               installs the broker, and the independent implementation of AMQP 1.0 that tests are
#                                     judged by, where they are missing (Debian)
#   eng/amqp.sh start DIR             makes it in DIR (new or empty) or starts it again; prints its address; the password is
#                                     in DIR/password, the port for TLS in DIR/tls-port, its authority in DIR/authority.pem
#   eng/amqp.sh stop DIR [orderly|immediate]  stops it; immediate: as a crash would
#   eng/amqp.sh queue DIR NAME ...    makes durable queues; each is reached at the address /amq/queue/NAME
#   eng/amqp.sh depth DIR NAME        how many messages are in a queue, by the broker's own administration command
#   eng/amqp.sh queues DIR            of each queue, how many messages wait and how many are in hand, by the same
set -euo pipefail

bin=/usr/lib/rabbitmq/bin

as_owner() { if [ "$(id -u)" -ne 0 ]; then "$@"; else (cd / && exec runuser -u rabbitmq -- "$@"); fi; }

# The node's own environment: its name, its ports, its files.
in_node() {
  local dir=$1 && shift
  as_owner env -i PATH="$PATH" LANG=C.UTF-8 HOME="$dir" ERL_EPMD_ADDRESS=127.0.0.1 ERL_EPMD_PORT="$(cat "$dir/epmd-port")" \
    RABBITMQ_NODENAME=courier@localhost RABBITMQ_NODE_IP_ADDRESS=127.0.0.1 RABBITMQ_NODE_PORT="$(cat "$dir/port")" \
    RABBITMQ_DIST_PORT="$(cat "$dir/node-port")" RABBITMQ_MNESIA_BASE="$dir/data" RABBITMQ_LOG_BASE="$dir/log" \
    RABBITMQ_PID_FILE="$dir/pid" RABBITMQ_ENABLED_PLUGINS_FILE="$dir/plugins" RABBITMQ_CONFIG_FILE="$dir/settings.conf" \
    RABBITMQ_CONF_ENV_FILE=/dev/null RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS="-kernel inet_dist_use_interface {127,0,0,1}" "$@"
}

install() {
  local missing=
  [ -x "$bin/rabbitmq-server" ] || missing="rabbitmq-server"
  /usr/bin/python3 -c 'import proton' 2>/dev/null || missing="$missing python3-qpid-proton"
  [ -n "$missing" ] || return 0
  [ "$(id -u)" -eq 0 ] || { echo "not installed, and only root may install them:$missing" >&2; exit 1; }
  # The package would start a broker of its own, unless the machine says already that nothing is to be started.
  local policy=/usr/sbin/policy-rc.d ours=
  if [ ! -e "$policy" ]; then ours=1; printf '#!/bin/sh\nexit 101\n' > "$policy"; chmod +x "$policy"; fi
  # shellcheck disable=SC2086
  apt-get update -q >&2 && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $missing >&2
  if [ -n "$ours" ]; then rm -f "$policy"; fi
}

# Who the broker shows itself to be, and the authority that says so.
certificates() {
  local dir=$1
  openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 2 -subj "/CN=made-up authority" \
    -keyout "$dir/authority.key" -out "$dir/authority.pem" 2>/dev/null
  openssl req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj "/CN=localhost" \
    -keyout "$dir/server.key" -out "$dir/server.csr" 2>/dev/null
  openssl x509 -req -in "$dir/server.csr" -CA "$dir/authority.pem" -CAkey "$dir/authority.key" -CAcreateserial -days 2 \
    -extfile <(echo "subjectAltName=DNS:localhost,IP:127.0.0.1") -out "$dir/server.pem" 2>/dev/null
}

prepare() {
  local dir=$1
  mkdir -p "$dir"/{data,log}
  head -c 18 /dev/urandom | base64 | tr '+/' 'xy' > "$dir/password"
  head -c 18 /dev/urandom | base64 | tr '+/' 'xy' > "$dir/.erlang.cookie"
  echo '[rabbitmq_amqp1_0].' > "$dir/plugins"
  certificates "$dir"
  chmod 600 "$dir/password" "$dir/.erlang.cookie" "$dir"/*.key
}

# Ports between those of other servers and the ones that the machine gives to clients.
choose_ports() {
  local dir=$1 port=$((20000 + RANDOM % 12000))
  echo "$port" > "$dir/port"; echo $((port + 1)) > "$dir/tls-port"
  echo $((port + 2)) > "$dir/node-port"; echo $((port + 3)) > "$dir/epmd-port"
  cat > "$dir/settings.conf" <<END
listeners.tcp.1 = 127.0.0.1:$port
listeners.ssl.1 = 127.0.0.1:$((port + 1))
ssl_options.cacertfile = $dir/authority.pem
ssl_options.certfile = $dir/server.pem
ssl_options.keyfile = $dir/server.key
default_user = courier
default_pass = $(cat "$dir/password")
log.file.level = warning
END
  if [ "$(id -u)" -eq 0 ]; then chown -R rabbitmq "$dir"; fi
}

start() {
  local dir is_new=
  dir=$(realpath -m "$1")
  install
  if [ ! -e "$dir/password" ]; then is_new=1; prepare "$dir"; fi
  for try in 1 2 3 4 5; do
    # On a restart the ports stay: clients find the broker again.
    if [ -n "$is_new" ]; then choose_ports "$dir"; fi
    rm -f "$dir/pid"
    (in_node "$dir" setsid "$bin/rabbitmq-server" >"$dir/start.log" 2>&1 </dev/null &)
    if in_node "$dir" "$bin/rabbitmqctl" -q wait --timeout 60 "$dir/pid" >"$dir/wait.log" 2>&1; then
      echo "amqp://courier@127.0.0.1:$(cat "$dir/port")"
      return
    fi
    stop "$dir" immediate
  done
  tail -n 20 "$dir/start.log" "$dir/wait.log" "$dir"/log/* >&2
  exit 1
}

stop() {
  local dir pid
  dir=$(realpath "$1")
  pid=$(cat "$dir/pid" 2>/dev/null || true)
  if [ "${2:-}" != immediate ]; then in_node "$dir" "$bin/rabbitmqctl" -q stop >/dev/null 2>&1 || true; fi
  # All that belongs to the node, whoever started it.
  if [ -n "$pid" ]; then as_owner kill -KILL "$pid" 2>/dev/null || true; fi
  for wait in $(seq 100); do
    if [ -z "$pid" ] || ! [ -e "/proc/$pid" ]; then break; fi
    sleep 0.05
  done
  if [ "${2:-}" != keep ]; then in_node "$dir" epmd -port "$(cat "$dir/epmd-port")" -kill >/dev/null 2>&1 || true; fi
}

queue() {
  local dir code=
  dir=$(realpath "$1") && shift
  for name in "$@"; do code="$code rabbit_amqqueue:declare({resource,<<\"/\">>,queue,<<\"$name\">>},true,false,[],none,<<\"courier\">>),"; done
  in_node "$dir" "$bin/rabbitmqctl" -q eval "$code ok." >/dev/null
}

depth() { in_node "$(realpath "$1")" "$bin/rabbitmqctl" -q list_queues name messages | awk -v name="$2" '$1 == name { print $2 }'; }

queues() { in_node "$(realpath "$1")" "$bin/rabbitmqctl" -q --no-table-headers list_queues name messages_ready messages_unacknowledged; }

case "${1:-}" in
  install) install ;;
  start) shift && start "$@" ;;
  stop) shift && stop "$@" ;;
  queue) shift && queue "$@" ;;
  depth) shift && depth "$@" ;;
  queues) shift && queues "$@" ;;
  *) sed -n '2,14s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac
