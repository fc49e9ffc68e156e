#!/bin/bash
# test.sh [--all]: on a fresh Debian 12 machine, installs what is missing, builds with GCC, and with clang and its
# sanitizers, and runs the tests. Running it again is quick. --all: the long families and the lint whole, hours instead
# of minutes.
set -euo pipefail
cd "$(dirname "$0")/.."
[ "${1:-}" = --all ] && export LANTERN_TEST_ALL=1
scripts/need.sh
scripts/build.sh dev
scripts/build.sh asan
echo "looking: format and lint"
scripts/lint.sh "${1:-}"
echo "testing: dev"
ctest --test-dir build/dev --output-on-failure -j 2
echo "testing: AddressSanitizer and UndefinedBehaviorSanitizer"
ctest --test-dir build/asan --output-on-failure -j 2
