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
echo "testing: dev"
ctest --test-dir build/dev --output-on-failure -j 2 "${left_out[@]}"
echo "testing: AddressSanitizer and UndefinedBehaviorSanitizer"
ctest --test-dir build/asan --output-on-failure -j 2
