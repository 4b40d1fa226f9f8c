#!/usr/bin/env bash
# Holding 2,000 locked packages against 12 targets, against reading the lock and the histories of its packages with
# `serde_json`.
source "$(dirname "$0")/lib.sh"

make_fits
hyperfine --shell=none --warmup 2 --runs "$runs" --style none --export-json "$work/fit.json" \
    "$program fit --quiet" "$root/target/release/examples/read-histories $work/seedhouse bibliotax.lock" >/dev/null
echo "fit: $(ratio "$work/fit.json")"
