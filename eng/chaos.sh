#!/usr/bin/env bash
# Kills processes of every kind at random while events flow, and proves that none is lost and none acts twice:
#   eng/chaos.sh [--events N] [--kills N] [--seed S] [--late] [--keep DIR] \
#     [--engine postgres|amqp [--server-kills N] [--nodes N]]
# Exit code 0 only if the ledger balances, event by event. Default: 100,000 events, 200 kills, five to eight minutes.
set -euo pipefail
cd "$(dirname "$0")/.."
export DOTNET_NOLOGO=1 DOTNET_CLI_TELEMETRY_OPTOUT=1
dotnet build -c Release examples/FerryLine/Demo -v quiet
exec artifacts/bin/FerryLine.Demo/release/FerryLine.Demo chaos "$@"
