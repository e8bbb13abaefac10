#!/usr/bin/env bash
# Does what the README says, word for word, in a fresh clone of what has been committed, in a temporary folder:
#
#   eng/reader.sh            all but the tests; some minutes, most of which is building
#   eng/reader.sh --tests    with the tests
set -euo pipefail
root=$(cd "$(dirname "$0")/.." && pwd)
case "${1:-}" in '' | --tests) ;; *) sed -n '2,6s/^# \{0,1\}//p' "$0" >&2; exit 2 ;; esac
clone=$(mktemp -d)
trap 'rm -rf "$clone"' EXIT
git clone -q "$root" "$clone/gentle-courier"
cd "$clone/gentle-courier"
commands=$(awk '/^```sh$/ { inside = 1; next } /^```$/ { inside = 0 } inside' README.md)
if [ "${1:-}" != --tests ]; then commands=$(grep -v '^eng/test.sh ' <<<"$commands"); fi
bash -exc "$commands"
