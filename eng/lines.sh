#!/usr/bin/env bash
# Says which lines of code are longer than 120 characters. Migrations are as their tool wrote them, and an event on the
# wire is one line.
set -euo pipefail
cd "$(dirname "$0")/.."
git ls-files '*.cs' | grep -v /Migrations/ | while read -r file; do
  if [ -f "$file" ]; then LC_ALL=C.UTF-8 grep -HnE '^.{121,}$' "$file" | grep -v '"specversion":' || true; fi
done | {
  if grep .; then echo "the lines above are longer than 120 characters: wrap them" >&2; exit 1; fi
}
