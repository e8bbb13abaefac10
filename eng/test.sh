#!/usr/bin/env bash
# Restores, builds and runs the tests. The last line counts them: "N passed, N failed".
#
#   eng/test.sh          all: on SQLite, on PostgreSQL, AMQP 1.0, the command, the examples
#   eng/test.sh quick    what is pure or on SQLite, for the time between two edits; no server is needed
#
# Needs the .NET 10 SDK and access to NuGet; all of it also PostgreSQL's programs, an AMQP 1.0 broker, a font and the
# like, which it installs where they are missing (Debian, as root). It starts and stops servers by itself, in temporary
# folders. What each test took is in artifacts/tests; eng/slowest.sh lists it.
set -uo pipefail
cd "$(dirname "$0")/.."
export DOTNET_NOLOGO=1 DOTNET_CLI_TELEMETRY_OPTOUT=1

case "${1:-all}" in
  all)
    eng/postgres.sh install && eng/pooler.sh install && eng/amqp.sh install && eng/foreign.sh install && eng/othertime.sh >/dev/null && eng/alerts.sh && eng/pictures.sh && eng/lines.sh || exit 1
    what=GentleCourier.slnx projects=$(basename -a tests/*.Tests) each=1.0x
    # What follows those that run one by one, so that both lanes end at about the same time.
    following="GentleCourier.EntityFrameworkCore.Tests GentleCourier.Tests GentleCourier.Testing.Tests FerryLine.Unit.Tests" ;;
  quick) what=eng/Quick.slnf projects="GentleCourier.Tests GentleCourier.Sqlite.Tests" each=2.0x following= ;;
  *) sed -n '2,10s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac

dotnet restore --locked-mode "$what" || exit 1
dotnet build --no-restore -c Release "$what" || exit 1
# The compiler would keep its memory for the next ten minutes.
end_compiler() { dotnet build-server shutdown --vbcscompiler >/dev/null; }
end_compiler

# Programs that tests start again and again.
if [ "$what" = GentleCourier.slnx ]; then
  eng/ahead.sh artifacts/bin/{CrashRig,Fairness,FerryLine.{Demo,Harbour,Fares,DeckCount,Notices},GentleCourier.Cli}/release
fi

# Hundreds of processes live for a second or two: what the compiler would do for their later life is lost on them.
export DOTNET_TieredPGO=0 DOTNET_TC_CallCountThreshold=300
# In memory, where there is enough of it and programs may run there: tests kill processes, not machines.
temporary=$(mktemp -d)
if memory=$(mktemp -d -p /dev/shm 2>/dev/null); then
  if [ "$(df --output=avail -k "$memory" | tail -n 1)" -gt 8000000 ] && cp "$(type -P true)" "$memory" && "$memory/true"; then
    rm -rf "$temporary" && temporary=$memory
  else
    rm -rf "$memory"
  fi
fi
chmod 755 "$temporary"
# Some tests build programs, and their compiler is known by a file in this folder.
trap 'end_compiler; rm -rf "$temporary"' EXIT
# An interrupt ends both lanes, and what runs in them.
trap 'trap - INT TERM; kill 0' INT TERM
export TMPDIR=$temporary

results=artifacts/tests
rm -rf "$results" && mkdir -p "$results"

# The one place where it is said how much runs at once: a test for each core, whatever class it is in, and one more, of
# those that play whole days or build programs. Each is several services and processes, some of which wait; those on
# SQLite alone wait more, and two for each core run at once.
one_by_one="FerryLine.Tests GentleCourier.Cli.Tests"
run() {
  local threads=$1 project
  shift
  for project; do
    "artifacts/bin/$project/release/$project" -noColor -maxThreads "$threads" -parallelMode all \
      -result-xml "$results/$project.xml" >"$results/$project.log" 2>&1 || touch "$results/failed"
    cat "$results/$project.log"
  done
}
of() { printf '%s\n' $projects | grep -xF "$(printf '%s\n' $1)"; }
# shellcheck disable=SC2046 # several names
{ run 1 $(of "$one_by_one"); run "$each" $(of "$following"); } & run "$each" $(printf '%s\n' $projects | grep -vxF "$(printf '%s\n' $one_by_one $following)") & wait

# Each project counts by itself; one that did not come to its end has counted nothing.
count() { cat "$results"/*.xml | grep -o "<assembly [^>]*" | sed -n "s/.* $1=\"\([0-9]*\)\".*/\1/p" | awk '{ sum += $1 } END { print sum + 0 }'; }
passed=$(count passed) failed=$(($(count failed) + $(count errors)))
# A run that fails in another way than by a failed test must not look like one that passed.
for project in $projects; do
  if ! [ -s "$results/$project.xml" ]; then echo "$project did not run to its end" >&2; failed=$((failed + 1)); fi
done
if [ "$failed" -eq 0 ] && { [ -e "$results/failed" ] || [ "$passed" -eq 0 ]; }; then failed=1; fi
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
