#!/usr/bin/env bash
# Fuzzes every target for some minutes: `bash fuzz/run.sh [MINUTES] [TARGET ...]`, 30 by default.
# A crash, or an input that takes longer than 25 seconds, ends it and is kept in fuzz/artifacts.
set -euo pipefail
cd "$(dirname "$0")"
minutes=${1:-30}
shift || true
targets=("$@")
[ ${#targets[@]} -gt 0 ] || targets=(lexer dialect resolver propose pair)
# The sanitizers' flags are not stable yet; this lets the stable compiler take them.
export RUSTC_BOOTSTRAP=1
for target in "${targets[@]}"; do
  mkdir -p "corpus/$target"
  cargo fuzz run -O "$target" "corpus/$target" "seeds/$target" $(if [ "$target" = lexer ]; then echo ../demo; fi) -- -dict=html.dict -max_len=4096 \
    -max_total_time=$((minutes * 60)) -timeout=25 -report_slow_units=1 -print_final_stats=1
done
