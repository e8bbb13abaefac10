#!/usr/bin/env bash
# Checks rules for alerts, or runs tests of them, with the programs of Prometheus:
#
#   eng/alerts.sh check rules FILE
#   eng/alerts.sh test rules FILE
#
# They are fetched from Debian's package where they are missing, and not installed: no server is started by that.
set -euo pipefail
kept=${XDG_CACHE_HOME:-$HOME/.cache}/gentle-courier/alerts
program=$(command -v promtool || echo "$kept/usr/bin/promtool")
if [ ! -x "$program" ]; then
  folder=$(mktemp -d)
  trap 'rm -rf "$folder"' EXIT
  # The folder is apt's own user's too, who would otherwise complain.
  chmod 755 "$folder"
  (cd "$folder" && { apt-get download prometheus || { apt-get update && apt-get download prometheus; }; }) >&2
  dpkg-deb -x "$folder"/prometheus_*.deb "$folder/all" && mkdir -p "$kept/usr/bin"
  mv "$folder/all/usr/bin/promtool" "$program.$$" && mv "$program.$$" "$program"
fi
if [ $# -gt 0 ]; then exec "$program" "$@"; fi
