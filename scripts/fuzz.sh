#!/usr/bin/env bash
# Runs every fuzz target for so many seconds (the first argument; 60 where there is none), each from the exports of our own tests,
# and says what came of it. Needs Rust and a C++ compiler; no other toolchain. Inputs that fail stay in fuzz/artifacts.
# With names behind the seconds only those targets run; JOBS runs so many beside each other (1 where nothing is said).
set -euo pipefail
cd "$(dirname "$0")/.."
seconds="${1:-60}"
shift || true
if ! command -v c++ >/dev/null && ! command -v clang++ >/dev/null; then
    apt-get update -qq && apt-get install -y -qq --no-install-recommends g++
fi
host=$(rustc -vV | sed -n 's/^host: //p')
target="${CARGO_TARGET_DIR:-$PWD/target}/fuzz"
# Compiler options for libFuzzer (LLVM, SanitizerCoverage); for the target only, not for build scripts. With QUICK=1 the build takes half as
# long, and the targets learn from functions alone.
flags="--cfg fuzzing -Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-inline-8bit-counters \
-Cllvm-args=-sanitizer-coverage-pc-table"
if [ -n "${QUICK:-}" ]; then
    flags+=" -Cllvm-args=-sanitizer-coverage-level=1"
    export CARGO_PROFILE_RELEASE_OPT_LEVEL=0 CARGO_PROFILE_RELEASE_DEBUG=none
else
    flags+=" -Cllvm-args=-sanitizer-coverage-level=4 -Cllvm-args=-sanitizer-coverage-trace-compares"
fi
CARGO_TARGET_DIR="$target" RUSTFLAGS="$flags" cargo build --manifest-path fuzz/Cargo.toml --release --locked --quiet \
    --target "$host" --bins
cargo run --quiet --locked --example fuzz_seeds -- fuzz/seeds

run() {
    local name=$1 log="$target/$1.log"
    mkdir -p "fuzz/corpus/$name" "fuzz/seeds/$name" "fuzz/artifacts/$name"
    local status=0 kept=()
    [ ! -d "fuzz/kept/$name" ] || kept=("fuzz/kept/$name")
    "$target/$host/release/$name" "fuzz/corpus/$name" "fuzz/seeds/$name" "${kept[@]}" -max_total_time="$seconds" -timeout=10 \
        -rss_limit_mb=2048 -max_len=16384 -artifact_prefix="fuzz/artifacts/$name/" -print_final_stats=1 >"$log" 2>&1 || status=$?
    local runs cover
    runs=$(sed -n 's/^stat::number_of_executed_units: *//p' "$log")
    cover=$(grep -oE 'cov: [0-9]+' "$log" | tail -n 1 | tr -dc 0-9 || true)
    printf '%-16s %10s runs  %7s edges  %s\n' "$name" "${runs:-?}" "${cover:-?}" "$([ "$status" -eq 0 ] && echo nothing found || echo "FOUND: see $log")"
    return "$status"
}

names=("$@")
[ ${#names[@]} -gt 0 ] || mapfile -t names < <(cd fuzz/fuzz_targets && ls -1 -- *.rs | sed 's/\.rs$//')
failed=0
running=0
for name in "${names[@]}"; do
    run "$name" &
    running=$((running + 1))
    if [ "$running" -ge "${JOBS:-1}" ]; then
        wait -n || failed=1
        running=$((running - 1))
    fi
done
while [ "$running" -gt 0 ]; do
    wait -n || failed=1
    running=$((running - 1))
done
exit "$failed"
