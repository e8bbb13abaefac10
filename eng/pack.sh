#!/usr/bin/env bash
# Makes all packages, with symbols:
#
#   eng/pack.sh DIR [--built] [NAME=VALUE ...]
#
# into DIR, from a build of its own that does not depend on where the sources lie, with the command compiled ahead of time
# for linux-x64 and linux-arm64; with --built, from what has been built in Release already, and the command as it is.
# NAME=VALUE are properties, such as PackageVersion=0.1.0-rc.1.
set -euo pipefail
[ $# -ge 1 ] || { sed -n '2,8s/^# \{0,1\}//p' "$0" >&2; exit 2; }
from=$PWD
cd "$(dirname "$0")/.."
export DOTNET_NOLOGO=1 DOTNET_CLI_TELEMETRY_OPTOUT=1

dir= properties=() built=
for argument in "$@"; do
  case "$argument" in
    --built) built=1 ;;
    *=*) properties+=("-p:$argument") ;;
    *) [ -z "$dir" ] || { echo "pack.sh: there are two folders, '$dir' and '$argument'" >&2; exit 2; }
      dir=$(cd "$from" && realpath -m "$argument") ;;
  esac
done
[ -n "$dir" ] || { sed -n '2,8s/^# \{0,1\}//p' eng/pack.sh >&2; exit 2; }
if [ -n "$built" ]; then
  dotnet pack eng/Packages.slnf --no-build -c Release -o "$dir" "${properties[@]}"
else
  artifacts=$(mktemp -d)
  trap 'rm -rf "$artifacts"' EXIT
  dotnet pack eng/Packages.slnf -c Release -o "$dir" -p:CI=true -p:ContinuousIntegrationBuild=true -p:CompiledAhead=true "-p:ArtifactsPath=$artifacts" "${properties[@]}"
fi
