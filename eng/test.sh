#!/usr/bin/env bash
# Restores, builds and runs the tests. The last line counts them: "N passed, N failed".
#
#   eng/test.sh          all: on SQLite, on PostgreSQL, AMQP 1.0, the command, the examples
#   eng/test.sh quick    what is pure or on SQLite, for the time between two edits; no server is needed
#
# Needs the .NET 10 SDK and access to NuGet; all of it also PostgreSQL's programs, an AMQP 1.0 broker, a font and the
# like, which it installs where they are missing (Debian, as root). It starts and stops servers by itself, in temporary
# folders.
set -uo pipefail
cd "$(dirname "$0")/.."
export DOTNET_NOLOGO=1 DOTNET_CLI_TELEMETRY_OPTOUT=1

case "${1:-all}" in
  all)
    eng/postgres.sh install && eng/pooler.sh install && eng/amqp.sh install && eng/othertime.sh >/dev/null && eng/alerts.sh && eng/pictures.sh && eng/lines.sh || exit 1
    what=GentleCourier.slnx ;;
  quick) what=eng/Quick.slnf ;;
  *) sed -n '2,10s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac

dotnet restore --locked-mode "$what" || exit 1
dotnet build --no-restore -c Release "$what" || exit 1

logs=$(mktemp -d)
trap 'rm -rf "$logs"' EXIT
# One project's tests; what they print is shown when they have ended.
run() { dotnet test --test-modules "artifacts/bin/$1/release/$1.dll" >"$logs/$1" 2>&1 || touch "$logs/failed"; cat "$logs/$1"; }
export -f run
export logs
# Two projects at a time, much of theirs is waiting; the longest first. But the examples' tests start five processes each,
# and want the machine for themselves.
if [ "$what" = GentleCourier.slnx ]; then
  long="GentleCourier.Cli.Tests GentleCourier.Postgres.Tests GentleCourier.Amqp.Tests" alone=FerryLine.Tests
  others=$(basename -a tests/*.Tests | grep -vxF "$(printf '%s\n' $long $alone)")
else
  long= alone= others="GentleCourier.Sqlite.Tests GentleCourier.Tests"
fi
printf '%s\n' $long $others | xargs -P 2 -I{} bash -c 'run {}'
for project in $alone; do run "$project"; done

status=0
if [ -e "$logs/failed" ]; then status=1; fi
# Each run counts by itself.
count() { cat "$logs"/*.Tests | sed -n "s/^ *$1: *\([0-9][0-9]*\).*/\1/p" | awk '{ sum += $1 } END { if (NR > 0) print sum }'; }
passed=$(count succeeded) failed=$(count failed)
if [ -z "$passed" ] || [ -z "$failed" ]; then
  echo "the tests did not run to their end" >&2
  passed=${passed:-0} failed=1
fi
# A run that fails in another way than by a failed test must not look like one that passed.
if [ "$status" -ne 0 ] && [ "$failed" -eq 0 ]; then failed=1; fi
if [ "$passed" -eq 0 ] && [ "$status" -eq 0 ]; then status=1; fi
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ] && [ "$status" -eq 0 ]
