#!/usr/bin/env bash
# Another time for one process, for tests of clocks that disagree: prints the library that fakes it, to be preloaded with
# FAKETIME=+1h or the like; installs it where it is missing (Debian, as root).
#
#   LD_PRELOAD=$(eng/othertime.sh) FAKETIME=+1h date
set -euo pipefail

library() { ls /usr/lib/*/faketime/libfaketime.so.1 2>/dev/null | head -n 1; }

if [ -z "$(library)" ]; then
  [ "$(id -u)" -eq 0 ] || { echo "libfaketime is not installed, and only root may install it" >&2; exit 1; }
  apt-get update -q >&2 && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends libfaketime >&2
fi
library
