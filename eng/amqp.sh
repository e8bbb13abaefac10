#!/usr/bin/env bash
# A private AMQP 1.0 broker for tests, examples and benchmarks: its files in a folder of its own, on free loopback ports,
# run by an unprivileged user. Nothing of the machine's own is touched.
#
#   eng/amqp.sh install               installs the broker, and the independent implementation of AMQP 1.0 that tests are
#                                     judged by, where they are missing (Debian)
#   eng/amqp.sh start DIR             makes it in DIR (new or empty) or starts it again; prints its address; the password is
#                                     in DIR/password, the port for TLS in DIR/tls-port, its authority in DIR/authority.pem
#   eng/amqp.sh stop DIR [orderly|immediate]  stops it; immediate: as a crash would
#   eng/amqp.sh apart DIR [OTHER]     like start or join, in a network namespace of its own (root alone may; iproute2)
#   eng/amqp.sh cut DIR [everybody|nodes]  nothing that it sends arrives any more, at anybody, or at other nodes alone;
#                                     neither side is told
#   eng/amqp.sh mend DIR              takes that back
#   eng/amqp.sh leave DIR             takes its namespace away, once it is stopped
#   eng/amqp.sh join DIR OTHER        makes another node in DIR, one broker with the node in OTHER; prints its address. From
#                                     then on it is stopped and started like any
#   eng/amqp.sh queue DIR NAME ...    makes durable queues; each is reached at the address /amq/queue/NAME
#   eng/amqp.sh replicated DIR NAME ...  makes durable queues that each node has a copy of
#   eng/amqp.sh single DIR NAME ...  makes durable queues that hand over to one receiver at a time
#   eng/amqp.sh limited DIR NAME ...  makes durable queues that hand over an event six times, and set it aside in the queue
#                                     "dead" then
#   eng/amqp.sh depth DIR NAME        how many messages are in a queue, by the broker's own administration command
#   eng/amqp.sh console DIR           for each line that it reads: of each queue, a line with what it read, the queue's name, how
#                                     many messages wait and how many are in hand, as the node itself counts them; then one
#                                     with what it read alone. Other lines are the runtime's own, and say nothing
set -euo pipefail

bin=/usr/lib/rabbitmq/bin

as_owner() {
  if [ "$(id -u)" -ne 0 ]; then "$@"; else (cd / && exec ${space:+ip netns exec "$space"} runuser -u rabbitmq -- "$@"); fi
}

# Where a node is: on loopback, or in a namespace, which has the name of its end of the wire; and how others name that.
host_of() { cat "$1/host" 2>/dev/null || echo 127.0.0.1; }
named_host_of() { cat "$1/host" 2>/dev/null || echo localhost; }
space_of() { cat "$1/space" 2>/dev/null || true; }

# The node's own environment: its name, its ports, its files.
in_node() {
  local dir=$1 host space && shift
  host=$(host_of "$dir") space=$(space_of "$dir")
  as_owner env -i PATH="$PATH" LANG=C.UTF-8 HOME="$dir" ERL_EPMD_ADDRESS="$host" ERL_EPMD_PORT="$(cat "$dir/epmd-port")" \
    ${space:+RABBITMQ_USE_LONGNAME=true} \
    RABBITMQ_NODENAME="$(cat "$dir/name")" RABBITMQ_NODE_IP_ADDRESS="$host" RABBITMQ_NODE_PORT="$(cat "$dir/port")" \
    RABBITMQ_DIST_PORT="$(cat "$dir/node-port")" RABBITMQ_MNESIA_BASE="$dir/data" RABBITMQ_LOG_BASE="$dir/log" \
    RABBITMQ_PID_FILE="$dir/pid" RABBITMQ_ENABLED_PLUGINS_FILE="$dir/plugins" RABBITMQ_CONFIG_FILE="$dir/settings.conf" \
    RABBITMQ_CONF_ENV_FILE=/dev/null RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS="-kernel ${space:+net_ticktime 8 }inet_dist_use_interface {${host//./,}}" "$@"
}

install() {
  local missing=
  [ -x "$bin/rabbitmq-server" ] || missing="rabbitmq-server"
  /usr/bin/python3 -c 'import proton' 2>/dev/null || missing="$missing python3-qpid-proton"
  command -v ip >/dev/null || missing="$missing iproute2"
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
  local dir=$1 other=${2:-} name=${3:-}
  mkdir -p "$dir"/{data,log}
  echo "${name:-courier@$(named_host_of "$dir")}" > "$dir/name"
  echo '[rabbitmq_amqp1_0].' > "$dir/plugins"
  if [ -n "$other" ]; then
    # Nodes of one broker know each other by a secret, and find each other by the same port.
    cp "$other"/{password,.erlang.cookie,epmd-port,authority.pem,authority.key,server.key,server.pem} "$dir"
  else
    head -c 18 /dev/urandom | base64 | tr '+/' 'xy' > "$dir/password"
    head -c 18 /dev/urandom | base64 | tr '+/' 'xy' > "$dir/.erlang.cookie"
    certificates "$dir"
  fi
  chmod 600 "$dir/password" "$dir/.erlang.cookie" "$dir"/*.key
}

# Ports between those of other servers and the ones that the machine gives to clients.
choose_ports() {
  local dir=$1 other=${2:-} port=$((20000 + RANDOM % 12000))
  echo "$port" > "$dir/port"; echo $((port + 1)) > "$dir/tls-port"
  echo $((port + 2)) > "$dir/node-port"; [ -n "$other" ] || echo $((port + 3)) > "$dir/epmd-port"
  cat > "$dir/settings.conf" <<END
listeners.tcp.1 = $(host_of "$dir"):$port
listeners.ssl.1 = $(host_of "$dir"):$((port + 1))
ssl_options.cacertfile = $dir/authority.pem
ssl_options.certfile = $dir/server.pem
ssl_options.keyfile = $dir/server.key
default_user = courier
default_pass = $(cat "$dir/password")
log.file.level = warning
END
  # One that is cut off from the majority stands still, and says so to its clients.
  if [ -e "$dir/space" ]; then echo "cluster_partition_handling = pause_minority" >> "$dir/settings.conf"; fi
  if [ "$(id -u)" -eq 0 ]; then chown -R rabbitmq "$dir"; fi
}

# Another node's folder and this one's name, where it is made to join.
start() {
  local dir other=${2:-} name=${3:-} is_new=
  dir=$(realpath -m "$1")
  install
  if [ ! -e "$dir/password" ]; then is_new=1; prepare "$dir" "$other" "$name"; fi
  for try in 1 2 3 4 5; do
    # On a restart the ports stay: clients find the broker again.
    if [ -n "$is_new" ]; then choose_ports "$dir" "$other"; fi
    rm -f "$dir/pid"
    (in_node "$dir" setsid "$bin/rabbitmq-server" >"$dir/start.log" 2>&1 </dev/null &)
    if in_node "$dir" "$bin/rabbitmqctl" -q wait --timeout 60 "$dir/pid" >"$dir/wait.log" 2>&1; then
      echo "amqp://courier@$(host_of "$dir"):$(cat "$dir/port")"
      return
    fi
    stop "$dir" immediate
  done
  tail -n 20 "$dir/start.log" "$dir/wait.log" "$dir"/log/* >&2
  exit 1
}

join() {
  local dir other address
  dir=$(realpath -m "$1") && other=$(realpath "$2")
  address=$(start "$dir" "$other" "courier-$(basename "$dir")@$(named_host_of "$dir")")
  in_node "$dir" "$bin/rabbitmqctl" -q stop_app >/dev/null
  in_node "$dir" "$bin/rabbitmqctl" -q join_cluster "$(cat "$other/name")" >/dev/null
  in_node "$dir" "$bin/rabbitmqctl" -q start_app >/dev/null
  echo "$address"
}

# Nodes of one broker are ends of one bridge, whose number is the first that is free.
apart() {
  local dir other=${2:-} net=1 end=2
  dir=$(realpath -m "$1") && mkdir -p "$dir"
  if [ -e "$dir/space" ]; then start "$dir"; return; fi
  if [ -n "$other" ]; then
    net=$(cut -d. -f3 "$other/host")
    while ! ip netns add "courier$net-$end" 2>/dev/null; do end=$((end + 1)); done
  else
    until ip link add "courier$net" type bridge 2>/dev/null; do
      net=$((net + 1)); [ "$net" -lt 255 ] || { ip link add courier1 type bridge; exit 1; }
    done
    ip addr add "10.213.$net.1/24" dev "courier$net" && ip link set "courier$net" up
    ip netns add "courier$net-$end"
  fi
  local space="courier$net-$end"
  echo "$space" > "$dir/space"; echo "10.213.$net.$end" > "$dir/host"
  # Nothing is left of one that could not be made.
  trap "leave '$dir'" EXIT
  ip link add "$space" type veth peer name eth0 netns "$space"
  ip link set "$space" master "courier$net" up
  ip -n "$space" addr add "10.213.$net.$end/24" dev eth0
  ip -n "$space" link set eth0 up && ip -n "$space" link set lo up
  if [ -n "$other" ]; then join "$dir" "$other"; else start "$dir"; fi
  trap - EXIT
}

# A route that swallows what is sent: whoever waits for an answer hears nothing.
cut_off() {
  local dir host first=1
  dir=$(realpath "$1") host=$(host_of "$1")
  if [ "${2:-everybody}" = nodes ]; then first=2; fi
  for end in $(seq "$first" 9); do
    [ "$host" = "${host%.*}.$end" ] || ip -n "$(space_of "$dir")" route add blackhole "${host%.*}.$end/32"
  done
}

mend() { ip -n "$(space_of "$1")" route flush type blackhole; }

leave() {
  local space
  space=$(space_of "$1")
  # Whoever is left in it keeps it alive, and the wire would go with it only then.
  ip netns pids "$space" | xargs -r kill -KILL
  ip link del "$space" && ip netns del "$space"
  # The last takes the bridge along.
  if ! ip netns list | grep -q "^${space%-*}-"; then ip link del "${space%-*}"; fi
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
  # Where other nodes live, theirs too; it refuses then.
  in_node "$dir" epmd -port "$(cat "$dir/epmd-port")" -kill >/dev/null 2>&1 || true
}

declare_queues() {
  local kind=$1 dir code=
  dir=$(realpath "$2") && shift 2
  for name in "$@"; do code="$code rabbit_amqqueue:declare({resource,<<\"/\">>,queue,<<\"$name\">>},true,false,$kind,none,<<\"courier\">>),"; done
  in_node "$dir" "$bin/rabbitmqctl" -q eval "$code ok." >/dev/null
}

# Of a replicated queue the listing is some seconds old: its leader is asked.
depth() {
  in_node "$(realpath "$1")" "$bin/rabbitmqctl" -q eval "
    {ok, Q} = rabbit_amqqueue:lookup(rabbit_misc:r(<<\"/\">>, queue, <<\"$2\">>)),
    case amqqueue:get_type(Q) of
      rabbit_quorum_queue -> {ok, N, _} = ra:consistent_query(amqqueue:get_pid(Q), fun rabbit_fifo:query_messages_total/1), N;
      _ -> [{messages, N}] = rabbit_amqqueue:info(Q, [messages]), N
    end."
}

# Each start of the administration command takes most of a second.
console() {
  local dir
  dir=$(realpath "$1")
  in_node "$dir" erl -noshell -hidden -kernel logger_level critical $([ -e "$dir/space" ] && echo -name || echo -sname) "console-$$@$(cut -d@ -f2 "$dir/name")" -eval "
    Answer = fun Again() ->
      case io:get_line(\"\") of
        eof -> halt();
        Line ->
          Asked = string:trim(Line),
          [io:format(\"~s ~s ~b ~b~n\", [Asked, Name, Ready, InHand]) ||
            [{name, {resource, _, queue, Name}}, {messages_ready, Ready}, {messages_unacknowledged, InHand}] <-
              rpc:call('$(cat "$dir/name")', rabbit_amqqueue, info_all,
                [<<\"/\">>, [name, messages_ready, messages_unacknowledged]])],
          io:format(\"~s~n\", [Asked]),
          Again()
      end
    end,
    Answer()."
}

case "${1:-}" in
  install) install ;;
  start) start "$2" ;;
  stop) shift && stop "$@" ;;
  join) shift && join "$@" ;;
  apart) shift && apart "$@" ;;
  cut) shift && cut_off "$@" ;;
  mend) mend "$2" ;;
  leave) leave "$2" ;;
  queue) shift && declare_queues '[]' "$@" ;;
  replicated) shift && declare_queues '[{<<"x-queue-type">>,longstr,<<"quorum">>}]' "$@" ;;
  single) shift && declare_queues '[{<<"x-single-active-consumer">>,bool,true}]' "$@" ;;
  limited) shift && declare_queues '[{<<"x-queue-type">>,longstr,<<"quorum">>},{<<"x-delivery-limit">>,long,5},
    {<<"x-dead-letter-exchange">>,longstr,<<>>},{<<"x-dead-letter-routing-key">>,longstr,<<"dead">>}]' "$@" ;;
  depth) shift && depth "$@" ;;
  console) shift && console "$@" ;;
  *) sed -n '2,26s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac
