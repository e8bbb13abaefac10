#!/usr/bin/env bash
# An AMQP 1.0 client of others, in another language, for tests to be judged by:
#
#   eng/foreign.sh install          installs it into eng/foreign, where Node.js and its packages are to be had
#   eng/foreign.sh send|receive …   see eng/foreign/kinds.mjs
#
# Where it cannot be installed, that is said, and the tests that need it are skipped.
set -euo pipefail
cd "$(dirname "$0")/foreign"
if [ "${1:-install}" = install ]; then
  [ ! -d node_modules/rhea ] || exit 0
  npm ci --silent --no-audit --no-fund >&2 || { rm -rf node_modules; echo "the foreign AMQP client is not installed" >&2; }
else
  exec node kinds.mjs "$@"
fi
