#!/usr/bin/env bash
# Makes damaged files over all formats and audits them, each by itself and all in one go: no panic, no file under a megabyte over
# ten seconds, no more than a gigabyte of memory. How many: the first argument, 100,000 where there is none. They are kept where the
# second argument says.
set -euo pipefail
cd "$(dirname "$0")/.."
[ -z "${2:-}" ] || export TREVLIN_CORPUS_IN="$2"
TREVLIN_CORPUS="${1:-100000}" cargo test --release --locked -p trevlin --test corpus -- --ignored --nocapture
