#!/bin/bash
# build.sh PRESET [TARGET...]: configures and builds quietly; on failure prints what went wrong.
set -euo pipefail
cd "$(dirname "$0")/.."
# Another clone of the tree finds what this one compiled.
export CCACHE_BASEDIR=$PWD CCACHE_NOHASHDIR=1
preset=$1
shift
mkdir -p build
log=build/$preset.log
echo "building: $preset"
if ! { cmake --preset "$preset" && cmake --build "build/$preset" ${1:+--target "$@"}; } >"$log" 2>&1; then
  tail -n 60 "$log" >&2
  echo "build.sh: the $preset build failed; the whole of it is in $log" >&2
  exit 1
fi
