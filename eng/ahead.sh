#!/usr/bin/env bash
# Compiles programs ahead of time, in place: their assemblies, and those that lie beside them.
#
#   eng/ahead.sh DIR [DIR ...]
#
# Tests start hundreds of processes that live for a few seconds, and most of what those would do is compiling. It is done
# once for each assembly that is another, and kept in artifacts/ahead. On a machine for which the compiler is not there
# nothing is done: programs compile themselves as they run, as ever. The next build puts its own in their place again.
set -uo pipefail
[ $# -ge 1 ] || { sed -n '2,9s/^# \{0,1\}//p' "$0" >&2; exit 2; }
root=$(cd "$(dirname "$0")/.." && pwd)
version=$(dotnet --list-runtimes | sed -n 's/^Microsoft.NETCore.App \(10\.[^ ]*\) .*/\1/p' | tail -n 1)
compiler=${NUGET_PACKAGES:-$HOME/.nuget/packages}/microsoft.netcore.app.crossgen2.linux-x64/$version/tools/crossgen2
if [ "$(uname -m)" != x86_64 ] || ! [ -x "$compiler" ]; then
  echo "ahead.sh: there is no compiler of $version for this machine; programs are left as they are"
  exit 0
fi
shared=$(dotnet --list-runtimes | sed -n "s/^Microsoft.NETCore.App $version \[\(.*\)\]/\1/p")
export compiler framework="$shared/$version" web="${shared%/*}/Microsoft.AspNetCore.App/$version" kept="$root/artifacts/ahead"
mkdir -p "$kept"

files=()
for folder; do files+=("$folder"/*.dll); done
list=$(sha1sum "${files[@]}")
compile() {
  local made="$kept/$1.dll"
  [ -s "$made" ] && return
  # What cannot be compiled ahead, as what is already, stays as it is.
  "$compiler" "$2" -o "$made.new" -r "$framework/*.dll" -r "$web/*.dll" -r "$(dirname "$2")/*.dll" \
    --targetos:linux --targetarch:x64 -O >/dev/null 2>&1 && mv "$made.new" "$made"
  rm -rf "$made.new"
  true
}
export -f compile
sort -u -k1,1 <<<"$list" | xargs -P "$(nproc)" -L 1 bash -c 'compile "$0" "$1"'
while read -r sum file; do
  [ -s "$kept/$sum.dll" ] && cp "$kept/$sum.dll" "$file"
done <<<"$list"
echo "ahead.sh: $(sort -u -k1,1 <<<"$list" | wc -l) assemblies in $# folders"
