#!/usr/bin/env bash
# `check` of a workspace with 2,000 packages against 300,000 advisories: the first time, when their archive is read into an index, and
# after that, against reading manifests, lock, histories and the index's keys.
source "$(dirname "$0")/lib.sh"
records=${BENCH_RECORDS:-300000}

python3 "$bench/make-workspace.py" "$work" 200 2000 5
python3 "$bench/make-advisories.py" "$work/advisories.zip" "$records" 2000
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cd "$work/workspace"
printf '\n[rules]\nadvisories = { feeds = ["../advisories.zip"], refuse = "critical" }\n' >>bibliotax.toml
"$program" resolve --quiet
rm -rf "$BIBLIOTAX_STORE/registries/advisories"
/usr/bin/time -f 'first check: %e s, %M KB of memory' "$program" check --quiet || true
cargo build --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-registry --example read-histories
index=$(echo "$BIBLIOTAX_STORE"/registries/advisories/*/index.sqlite)
cat >"$work/read" <<SH
#!/bin/sh
"$root/target/release/examples/read-histories" "$work/seedhouse" bibliotax.lock
python3 -c 'import sqlite3; sqlite3.connect("$index").execute("SELECT key FROM keys WHERE key GLOB \"Bibliotax/*\"").fetchall()'
SH
chmod +x "$work/read"
hyperfine --shell=none --ignore-failure --warmup 2 --runs "$runs" --style none --export-json "$work/check.json" \
    "$program check --quiet" "$work/read" >/dev/null
echo "check: $(ratio "$work/check.json")"
