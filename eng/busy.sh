#!/usr/bin/env bash
# Runs all tests beside busy loops, two for each core: what leans on time fails there.
#
#   eng/busy.sh          once
#   eng/busy.sh 3        three times, each green, or it stops
#   eng/busy.sh 1 quick  what is pure or on SQLite only
set -euo pipefail
cd "$(dirname "$0")/.."

loops=()
trap 'kill "${loops[@]}" 2>/dev/null || true' EXIT
for _ in $(seq $((2 * $(nproc)))); do
  (while :; do :; done) & loops+=($!)
done

for run in $(seq "${1:-1}"); do
  echo "run $run of ${1:-1}, beside ${#loops[@]} busy loops"
  eng/test.sh "${2:-all}" || { echo "run $run failed" >&2; exit 1; }
done
