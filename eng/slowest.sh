#!/usr/bin/env bash
# Lists the tests of the last run by the time that they took, the slowest first, and the time of each project.
#
#   eng/slowest.sh [COUNT]     so many, 30 by default
#
# A test's time holds what it waited for: others that run beside it, above all.
set -euo pipefail
cd "$(dirname "$0")/.."
ls artifacts/tests/*.xml >/dev/null 2>&1 || { echo "no run's results are in artifacts/tests: run eng/test.sh first" >&2; exit 1; }

# The value of an attribute, behind a number; both on one line.
list() { grep -ho "<$1 [^>]*" artifacts/tests/*.xml | sed -n "s/.* name=\"\([^\"]*\)\".* time=\"\([0-9.]*\)\".*/\2 \1/p" | sort -rn | sed 's/&quot;/"/g; s/&amp;/\&/g'; }

echo "seconds  project"
list assembly | awk '{ n = split($2, path, "/"); sum += $1; printf "%7.1f  %s\n", $1, path[n] } END { printf "%7.1f  all\n", sum }'
echo "seconds  test"
list test | head -n "${1:-30}" | awk '{ time = $1; $1 = ""; printf "%7.1f %s\n", time, $0 }'
