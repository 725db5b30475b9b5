#!/usr/bin/env bash
# Counts the instructions of an audit of the demo and of a made-up estate of 30 devices, and fails where one of them takes more than a
# tenth more than `scripts/instructions.txt` says: counts are the same on a busy machine, which times are not. Where a change is worth
# what it costs, or made it faster, `scripts/instructions.sh --write` writes the new figures, and the commit says why.
# Needs Rust, and valgrind, which it installs from Debian's packages where it is missing.
set -euo pipefail
cd "$(dirname "$0")/.."
figures=scripts/instructions.txt
if ! command -v valgrind >/dev/null; then
    apt-get update -qq && apt-get install -y -qq --no-install-recommends valgrind >/dev/null
fi
cargo build --release --locked --quiet
built="${CARGO_TARGET_DIR:-target}"
cargo run --quiet --locked -p xtask -- estate --devices 30 --seed 1 --into "$built/instructions"

count() {
    # One thread: who waits for whom is not counted.
    valgrind --tool=callgrind --callgrind-out-file=/dev/null "$built/release/trevlin" --jobs 1 audit "$1" --format json \
        --as-of 2026-11-24 2>&1 >/dev/null | sed -n 's/^.*Collected *: *\([0-9]*\).*$/\1/p'
}

failed=0
lines=""
for one in "demo demo/before" "made-up-30 $built/instructions/estate"; do
    read -r name estate <<<"$one"
    found=$(count "$estate")
    [ -n "$found" ] || { echo "$name: nothing was counted"; exit 1; }
    lines+="$name $found"$'\n'
    known=$(sed -n "s/^$name \([0-9]*\)$/\1/p" "$figures" 2>/dev/null || true)
    if [ "${1:-}" = --write ]; then
        printf '%s: %s instructions\n' "$name" "$found"
    elif [ -z "$known" ]; then
        printf '%s: %s has no figure for it; write one with --write\n' "$name" "$figures"
        failed=1
    elif [ "$found" -gt $((known + known / 10)) ]; then
        printf '%s: %s instructions, more than a tenth above the %s of %s\n' "$name" "$found" "$known" "$figures"
        failed=1
    else
        printf '%s: %s instructions, %s %% of the figure\n' "$name" "$found" "$((found * 100 / known))"
    fi
done
[ "${1:-}" != --write ] || printf '%s' "$lines" >"$figures"
exit "$failed"
