#!/bin/bash
# test.sh [--all]: on a fresh Debian 12 machine, installs what is missing, builds with GCC, and with clang and its
# sanitizers, and runs the tests. Running it again is quick. --all: the long families and the lint whole, hours instead
# of minutes.
set -euo pipefail
cd "$(dirname "$0")/.."
# Without --all the unit tests run under the sanitizers alone, and are not built twice.
built=(truths) left_out=(-LE units)
if [ "${1:-}" = --all ]; then
  export LANTERN_TEST_ALL=1
  built=() left_out=()
fi
scripts/need.sh
scripts/build.sh dev "${built[@]}"
scripts/build.sh asan
echo "looking: format and lint"
scripts/lint.sh "${1:-}"
# The disks of the tests go into memory where it has room: most of the time is waiting for writes to reach a disk.
place=/tmp
if [ -w /dev/shm ] && [ "$(df --output=avail -k /dev/shm | tail -n 1)" -gt 8000000 ] &&
   [ "$(awk '/MemAvailable/ { print $2 }' /proc/meminfo)" -gt 12000000 ]; then
  place=/dev/shm
fi
TMPDIR=$(mktemp -d -p "$place")
export TMPDIR
trap 'rm -rf --one-file-system "$TMPDIR"' EXIT
echo "testing: dev"
ctest --test-dir build/dev --output-on-failure -j 2 "${left_out[@]}"
echo "testing: AddressSanitizer and UndefinedBehaviorSanitizer"
ctest --test-dir build/asan --output-on-failure -j 2
