#!/usr/bin/env bash
# The quick part of what has to hold before a change lands: formatting, clippy, the tests that stand beside the code. Minutes where
# everything is built already; `.ci/run` is the whole.
set -euo pipefail
cd "$(dirname "$0")/.."
cargo fmt --all --check
cargo clippy --workspace --all-targets --locked -- -D warnings
cargo test --workspace --lib --bins --locked --quiet
