#!/usr/bin/env bash
# Cuts each of the three nodes of a broker off, from the others and from everybody, in turn, while events flow: what the
# others have is handled meanwhile, and nothing is lost. Two minutes; root alone may, since each node has a network
# namespace of its own. The tests do the same with a broker of one.
set -euo pipefail
cd "$(dirname "$0")/.."
export DOTNET_NOLOGO=1 DOTNET_CLI_TELEMETRY_OPTOUT=1
dotnet build -c Release -v q tests/GentleCourier.Amqp.Tests
COURIER_NODES=3 artifacts/bin/GentleCourier.Amqp.Tests/release/GentleCourier.Amqp.Tests -noColor -class '*.PartitionTests'
