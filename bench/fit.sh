#!/usr/bin/env bash
# Holding 2,000 locked packages against 12 targets, against reading the lock and the histories of its packages with
# `serde_json`.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-fits.py" "$work" 2000 5
"$program" registry create --quiet "$work/seedhouse" --facets "$work/facets.json"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cargo build --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-registry --example read-histories
cd "$work/project"
"$program" resolve --quiet
hyperfine --shell=none --warmup 2 --runs "$runs" --style none --export-json "$work/fit.json" \
    "$program fit --quiet" "$root/target/release/examples/read-histories $work/seedhouse bibliotax.lock" >/dev/null
echo "fit: $(ratio "$work/fit.json")"
