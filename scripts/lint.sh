#!/bin/bash
# clang-format over all of our C++, clang-tidy over the library and the command (the set in .clang-tidy).
# After scripts/build.sh asan, whose compile commands it reads.
set -euo pipefail
cd "$(dirname "$0")/.."
git ls-files -co --exclude-standard '*.cpp' '*.h' | xargs clang-format --dry-run --Werror
git ls-files -co --exclude-standard 'src/*.cpp' 'cli/*.cpp' | xargs -P 2 -n 4 clang-tidy -p build/asan --quiet 2>/dev/null
