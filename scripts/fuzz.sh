#!/bin/bash
# fuzz.sh MINUTES [TARGET...]: every reader under the fuzzer with AddressSanitizer and UBSan, that long each. What
# it learns stays in build/fuzz; a fault stops it and is kept there as crash-*. Start inputs: fuzz/corpus.
set -euo pipefail
cd "$(dirname "$0")/.."
minutes=${1:?fuzz.sh MINUTES [TARGET...]}
shift
scripts/build.sh fuzz
targets=("$@")
[ ${#targets[@]} -gt 0 ] || targets=($(sed -n 's/^\([a-z0-9_]*\)$/\1/p' <(ls fuzz/corpus)))
for target in "${targets[@]}"; do
  learned=build/fuzz/learned/$target
  mkdir -p "$learned"
  echo "fuzzing: $target"
  build/fuzz/fuzz/fuzz_"$target" -max_total_time=$(python3 -c "print(int($minutes * 60))") -max_len=131072 -timeout=20 -rss_limit_mb=2048 \
    -artifact_prefix=build/fuzz/"$target"- -print_final_stats=0 "$learned" fuzz/corpus/"$target" >build/fuzz/"$target".log 2>&1 ||
    { tail -n 30 build/fuzz/"$target".log; echo "fuzz.sh: $target has a fault, see build/fuzz/$target.log" >&2; exit 1; }
  grep -E "^Done|stat::number" build/fuzz/"$target".log | tail -n 1
done
