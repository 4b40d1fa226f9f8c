#!/usr/bin/env bash
# Resolving a universe that grew over time, 320 packages with 50 releases each, against reading and parsing the
# histories of all its packages one after the other with `serde_json`.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-universe.py" "$work" 320 50 40
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cargo build --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-registry --example read-histories
cd "$work/project"
hyperfine --shell=none --warmup 2 --runs "$runs" --style none --export-json "$work/resolve.json" \
    "$program resolve --dry-run --quiet" "$root/target/release/examples/read-histories $work/seedhouse" >/dev/null
echo "resolve: $(ratio "$work/resolve.json")"
