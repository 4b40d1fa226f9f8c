#!/usr/bin/env bash
# The page of a workspace of 200 projects with 2,000 packages on 12 targets: made, against reading the lock, the histories of its packages
# and their cards; its size; and how long a browser takes to open it. Wants chromium.
source "$(dirname "$0")/lib.sh"

command -v chromium >/dev/null || { echo "chromium is wanted: apt-get install chromium" >&2; exit 1; }
python3 "$bench/make-workspace.py" "$work" 200 2000 5 12
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cargo build --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-registry --example read-histories
cd "$work/workspace"
"$program" resolve --quiet
page=$work/report.html
hyperfine --shell=none --warmup 2 --runs "$runs" --style none --export-json "$work/report.json" \
    "$program report --output $page" \
    "$root/target/release/examples/read-histories $work/seedhouse bibliotax.lock --cards" >/dev/null
echo "report: $(ratio "$work/report.json"), $(stat -c %s "$page") bytes"

BIBLIOTAX_TEST_BROWSER=$(command -v chromium)
export BIBLIOTAX_TEST_BROWSER
cargo run --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-test-browser --example opening-time "file://$page"
