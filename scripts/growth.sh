#!/usr/bin/env bash
# Measures how an audit's time and memory grow with exports that are made to multiply: each way at a quarter, a half and the whole of a
# size, by default of a MiB. Needs Rust and /proc. `scripts/growth.sh --only WORDS` measures the ways whose name holds these words.
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --locked --quiet
exec cargo run --quiet --locked -p xtask -- growth --program "${CARGO_TARGET_DIR:-target}/release/trevlin" "$@"
