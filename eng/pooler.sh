#!/usr/bin/env bash
# A private connection pooler before a private PostgreSQL server (eng/postgres.sh), for tests: its files in a folder of its
# own, on a free loopback port, run by an unprivileged user. Nothing of the machine's own is touched.
#
#   eng/pooler.sh install                       installs its program where it is missing (Debian)
#   eng/pooler.sh start DIR SERVER MODE [NAME=VALUE ...]
#                                               starts it in DIR (new or empty) before the server in the folder SERVER;
#                                               MODE: session or transaction; prints its address
#   eng/pooler.sh stop DIR
set -euo pipefail

# It refuses to run as root.
as_owner() { if [ "$(id -u)" -ne 0 ]; then "$@"; else (cd / && exec runuser -u postgres -- "$@"); fi; }

program() { PATH="$PATH:/usr/sbin" command -v pgbouncer; }

install() {
  program >/dev/null && return
  [ "$(id -u)" -eq 0 ] || { echo "pgbouncer is not installed, and only root may install it" >&2; exit 1; }
  # The package would start one of its own, unless the machine says already that nothing is to be started.
  local policy=/usr/sbin/policy-rc.d ours=
  if [ ! -e "$policy" ]; then ours=1; printf '#!/bin/sh\nexit 101\n' > "$policy"; chmod +x "$policy"; fi
  apt-get update -q >&2 && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends pgbouncer >&2
  if [ -n "$ours" ]; then rm -f "$policy"; fi
}

start() {
  local dir server mode port
  dir=$(realpath -m "$1") server=$(realpath "$2") mode=$3 && shift 3
  install
  mkdir -p "$dir"
  chown "$(as_owner id -un)" "$dir"
  for try in 1 2 3 4 5 6 7 8 9 10; do
    port=$((20000 + RANDOM % 12000))
    {
      echo "[databases]"
      echo "* = host=127.0.0.1 port=$(cat "$server/port") user=owner password=$(cat "$server/password")"
      echo "[pgbouncer]"
      echo "listen_addr = 127.0.0.1"
      echo "listen_port = $port"
      echo "unix_socket_dir ="
      echo "auth_type = any"
      echo "pool_mode = $mode"
      echo "pidfile = $dir/pid"
      echo "logfile = $dir/log"
      for setting in "$@"; do echo "${setting%%=*} = ${setting#*=}"; done
    } | as_owner tee "$dir/settings.ini" >/dev/null
    as_owner "$(program)" -q -d "$dir/settings.ini" >/dev/null 2>&1 || continue
    for wait in $(seq 100); do
      if (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null; then echo "postgres://owner@127.0.0.1:$port"; return; fi
      sleep 0.05
    done
  done
  tail -n 20 "$dir/log" >&2
  exit 1
}

stop() { as_owner kill "$(cat "$1/pid")"; }

case "${1:-}" in
  install) install ;;
  start) shift && start "$@" ;;
  stop) shift && stop "$@" ;;
  *) sed -n '2,10s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac
