#!/usr/bin/env bash
# A private PostgreSQL server for tests, examples and benchmarks: its files in a folder of its own, on a free loopback
# port and a socket in that folder, run by an unprivileged user. Nothing of the machine's own servers is touched.
#
#   eng/postgres.sh install                        installs the server's programs where they are missing (Debian)
#   eng/postgres.sh start DIR [NAME=VALUE ...]     makes it in DIR (new or empty) or starts it again; prints its address,
#                                                  whose user may do everything; the password is in DIR/password
#   eng/postgres.sh stop DIR [immediate]           stops it; immediate: without finishing anything, as a crash would
#   eng/postgres.sh standby DIR OF [NAME=VALUE ...]  makes a standby in DIR that follows the server in OF; prints its address
#   eng/postgres.sh promote DIR PORT               has a standby take the place of the server that was at PORT
set -euo pipefail

programs() { command -v pg_ctl || ls -d /usr/lib/postgresql/*/bin/pg_ctl 2>/dev/null | sort -V | tail -n 1; }

# The server refuses to run as root.
as_owner() {
  if [ "$(id -u)" -ne 0 ]; then "$@"
  elif getent passwd postgres >/dev/null; then (cd / && exec runuser -u postgres -- "$@")
  else (cd / && exec runuser -u nobody -- "$@")
  fi
}

owner_of_files() { as_owner id -un; }

install() {
  [ -n "$(programs || true)" ] && return
  [ "$(id -u)" -eq 0 ] || { echo "PostgreSQL is not installed, and only root may install it: apt-get install postgresql" >&2; exit 1; }
  # The package would start a server of its own.
  mkdir -p /etc/postgresql-common && echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf
  apt-get update -q >&2 && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends -o Dpkg::Options::=--force-confold postgresql >&2
}

start() {
  local dir bin port
  dir=$(realpath -m "$1") && shift
  install
  bin=$(dirname "$(programs)")
  if [ ! -d "$dir/data" ]; then
    mkdir -p "$dir"
    head -c 18 /dev/urandom | base64 | tr '+/' 'xy' > "$dir/password"
    chmod 600 "$dir/password"
    chown "$(owner_of_files)" "$dir" "$dir/password"
    as_owner test -x "$dir" || { echo "the user $(owner_of_files), who runs the server, cannot enter $dir: choose a folder that others may enter" >&2; exit 1; }
    as_owner "$bin/initdb" -D "$dir/data" -U owner --pwfile "$dir/password" --auth-local trust --auth-host scram-sha-256 \
      -E UTF8 --locale C --no-sync >"$dir/initdb.log" 2>&1 || { cat "$dir/initdb.log" >&2; exit 1; }
  fi
  # On a restart the port stays: clients find the server again.
  port=$(cat "$dir/port" 2>/dev/null || true)
  for try in 1 2 3 4 5 6 7 8 9 10; do
    local candidate=${port:-$((20000 + RANDOM % 12000))}
    {
      echo "port = $candidate"
      echo "listen_addresses = '127.0.0.1'"
      echo "unix_socket_directories = '$dir'"
      echo "max_connections = 300"
      for setting in "$@"; do echo "${setting%%=*} = '${setting#*=}'"; done
    } | as_owner tee "$dir/data/postgresql.auto.conf" >/dev/null
    if as_owner "$bin/pg_ctl" -D "$dir/data" -l "$dir/server.log" -w -t 60 start >/dev/null 2>&1; then
      echo "$candidate" > "$dir/port"
      echo "postgres://owner@127.0.0.1:$candidate"
      return
    fi
  done
  tail -n 20 "$dir/server.log" >&2
  exit 1
}

stop() {
  local dir
  dir=$(realpath "$1")
  as_owner "$(dirname "$(programs)")/pg_ctl" -D "$dir/data" -m "${2:-fast}" -w -t 60 stop >/dev/null
}

standby() {
  local dir of
  dir=$(realpath -m "$1") of=$(realpath "$2") && shift 2
  mkdir -p "$dir"
  cp "$of/password" "$dir/password"
  chown "$(owner_of_files)" "$dir" "$dir/password"
  as_owner "$(dirname "$(realpath "$(programs)")")/pg_basebackup" -h "$of" -p "$(cat "$of/port")" -U owner -D "$dir/data" -c fast --no-sync
  as_owner touch "$dir/data/standby.signal"
  start "$dir" "$@" "primary_conninfo=host=$of port=$(cat "$of/port") user=owner"
}

promote() {
  local dir
  dir=$(realpath "$1")
  stop "$dir" 2>/dev/null || true
  echo "$2" > "$dir/port"
  start "$dir"
  as_owner "$(dirname "$(programs)")/pg_ctl" -D "$dir/data" -w -t 60 promote >/dev/null
}

case "${1:-}" in
  install) install ;;
  start) shift && start "$@" ;;
  stop) shift && stop "$@" ;;
  standby) shift && standby "$@" ;;
  promote) shift && promote "$@" ;;
  *) sed -n '2,12s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac
