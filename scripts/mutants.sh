#!/usr/bin/env bash
# Changes the code of a crate in small ways, one at a time, and says which changes no test notices: of the crate itself, and where it is
# estate or analysis of the checks as well, whose cases say what is to come of it. A sample, drawn by a seed: the same seed, the same
# changes.
#   scripts/mutants.sh [crate] [how many] [seed]       estate, 25 and 1 where nothing is said
# Needs cargo-mutants, and installs it where it is missing. Takes a while: each change is built and tested.
set -euo pipefail
# Crates without changes are not rebuilt.
export CARGO_INCREMENTAL=1
cd "$(dirname "$0")/.."
crate="trevlin-${1:-estate}"
count="${2:-25}"
seed="${3:-1}"
command -v cargo-mutants >/dev/null || cargo install --locked cargo-mutants
out="${CARGO_TARGET_DIR:-$PWD/target}/mutants/${1:-estate}"
mkdir -p "$out"
# Tests, benches and helpers of tests are no code to be tested.
scope=(--package "$crate" --exclude '**/testing.rs' --exclude '**/tests.rs')
case "$crate" in
    trevlin-estate | trevlin-analysis) tests=(--test-package "$crate,trevlin-checks,trevlin-audit") ;;
    *) tests=(--test-package "$crate") ;;
esac
all=$(cargo mutants "${scope[@]}" --list | wc -l)
shards=$((all > count ? all / count : 1))
printf '%s: %s changes are possible; those of shard %s of %s are tried\n' "$crate" "$all" "$((seed % shards))" "$shards"
status=0
cargo mutants "${scope[@]}" "${tests[@]}" --shard "$((seed % shards))/$shards" --sharding round-robin --output "$out" --no-shuffle \
    --timeout 300 --colors never || status=$?
missed=$(wc -l <"$out/mutants.out/missed.txt")
caught=$(wc -l <"$out/mutants.out/caught.txt")
late=$(wc -l <"$out/mutants.out/timeout.txt")
printf '%s of %s changes are noticed\n' "$((caught + late))" "$((caught + late + missed))"
cat "$out/mutants.out/missed.txt"
# Errors fail the script; undetected changes are future work, not a failure (2 and 3).
[ "$status" -le 3 ] && [ "$status" -ne 1 ]
