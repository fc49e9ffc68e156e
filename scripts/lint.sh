#!/bin/bash
# clang-format over all of our C++, clang-tidy over the library and the command (the set in .clang-tidy).
# After scripts/build.sh asan, whose compile commands it reads. A file that passed is not looked at again until it, a
# header or .clang-tidy changes.
set -euo pipefail
cd "$(dirname "$0")/.."
git ls-files -co --exclude-standard '*.cpp' '*.h' | xargs clang-format --dry-run --Werror
mkdir -p build/lint
shared=$(git ls-files -co --exclude-standard '*.h' .clang-tidy | xargs cat | sha256sum)
git ls-files -co --exclude-standard 'src/*.cpp' 'cli/*.cpp' | while read -r file; do
  stamp=build/lint/$({ echo "$shared $file"; cat "$file"; } | sha256sum | cut -c1-40)
  [ -e "$stamp" ] || echo "$file $stamp"
done | xargs -r -P 2 -n 2 sh -c 'clang-tidy -p build/asan --quiet "$0" 2>/dev/null && touch "$1"'
