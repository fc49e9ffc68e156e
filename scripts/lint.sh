#!/bin/bash
# lint.sh [--all]: clang-format over all of our C++, clang-tidy (the set in .clang-tidy) over the files of the library and the command that
# the last five commits changed, and what is not committed; --all, and where there is no such history: over all of them.
# A file that passed is not looked at again until it, a header or .clang-tidy changes.
set -euo pipefail
cd "$(dirname "$0")/.."
git ls-files -co --exclude-standard '*.cpp' '*.h' | xargs clang-format --dry-run --Werror
mkdir -p build/lint
shared=$(git ls-files -co --exclude-standard '*.h' .clang-tidy | xargs cat | sha256sum)
# Not those of a build, which compiles several files in one go.
flags=(-std=c++20 -I. -Iinclude -Isrc -Idemo -DFMT_SHARED -DLANTERN_VERSION='"lint"' -DLANTERN_MOUNT -DLANTERN_SERVE
  -isystem /usr/include/utf8cpp)
read -ra libraries <<<"$(pkg-config --cflags fuse3 cairo libzstd libdeflate)"
flags+=("${libraries[@]/#-I/-isystem}")
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
done | LINT_FLAGS="${flags[*]}" xargs -r -P 2 -n 2 sh -c 'clang-tidy --quiet "$0" -- $LINT_FLAGS 2>/dev/null && touch "$1"'
