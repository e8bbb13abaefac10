#!/usr/bin/env bash
# What tests of pictures and of the terminal need of the machine: a font, the zones of the world, a terminal to run in.
# Installs what is missing (Debian, as root).
set -euo pipefail

missing=
[ -n "$(find /usr/share/fonts /usr/local/share/fonts -name '*.ttf' -print -quit 2>/dev/null)" ] \
  || missing="$missing fonts-dejavu-core"
[ -e /usr/share/zoneinfo/Europe/Berlin ] || missing="$missing tzdata"
command -v script >/dev/null || missing="$missing bsdutils"
[ -z "$missing" ] && exit 0
[ "$(id -u)" -eq 0 ] || { echo "only root may install$missing" >&2; exit 1; }
# shellcheck disable=SC2086 # several names
apt-get update -q >&2 && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $missing >&2
