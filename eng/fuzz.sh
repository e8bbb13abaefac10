#!/usr/bin/env bash
# Feeds what reads AMQP 1.0 with bytes that nobody meant: the decoder, and whole connections; and has it speak with peers
# of any legal habits.
#
#   eng/fuzz.sh [SEEDS]    so many seeds, each 100,000 pieces for the decoder, 150 conversations, and 40 peers with any
#                          legal habits; 100 where nothing is said, which takes some minutes
set -euo pipefail
cd "$(dirname "$0")/.."
export DOTNET_NOLOGO=1 DOTNET_CLI_TELEMETRY_OPTOUT=1
dotnet build -c Release -v q tests/GentleCourier.Amqp.Tests
COURIER_FUZZ_SEEDS=${1:-100} artifacts/bin/GentleCourier.Amqp.Tests/release/GentleCourier.Amqp.Tests -method '*Random_*' -method '*whatever_the_peer*'
