#!/bin/bash
# lint.sh [--all]: clang-format over all of our C++, clang-tidy (the set in .clang-tidy) over the files of the library and the command that
# the last five commits changed, and what is not committed; --all, and where there is no such history: over all of them.
# After scripts/build.sh asan, whose compile commands it reads. A file that passed is not looked at again until it, a
# header or .clang-tidy changes.
set -euo pipefail
cd "$(dirname "$0")/.."
git ls-files -co --exclude-standard '*.cpp' '*.h' | xargs clang-format --dry-run --Werror
mkdir -p build/lint
shared=$(git ls-files -co --exclude-standard '*.h' .clang-tidy | xargs cat | sha256sum)
looked_at() {
  if [ "${1:-}" = --all ] || ! git rev-parse -q --verify HEAD~5 >/dev/null; then
    git ls-files 'src/*.cpp' 'cli/*.cpp'
  else
    git diff --name-only --diff-filter=d HEAD~5 -- 'src/*.cpp' 'cli/*.cpp'
  fi
  git ls-files -o --exclude-standard 'src/*.cpp' 'cli/*.cpp'
}
looked_at "$@" | while read -r file; do
  stamp=build/lint/$({ echo "$shared $file"; cat "$file"; } | sha256sum | cut -c1-40)
  [ -e "$stamp" ] || echo "$file $stamp"
done | xargs -r -P 2 -n 2 sh -c 'clang-tidy -p build/asan --quiet "$0" 2>/dev/null && touch "$1"'
