#!/usr/bin/env bash
# Resolving a universe of 320 packages over a line of 50 ms each way with nothing in the cache: with a closure that brings
# all at once, and package by package.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-universe.py" "$work" 320 50 40
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
"$program" registry serve --quiet "$work/seedhouse" --listen 127.0.0.1:8641 &
served=$!
python3 "$bench/slow-line.py" 8642 8641 50 &
line=$!
python3 "$bench/slow-line.py" 8643 8641 50 without-closure &
other=$!
trap 'kill $served $line $other' EXIT
sleep 1
for port in 8642 8643; do
    cp -r "$work/project" "$work/project-$port"
    sed -i "s|\"../seedhouse\"|\"http://127.0.0.1:$port\"|" "$work/project-$port/bibliotax.toml"
done
cold() { echo "sh -c 'rm -rf $work/store && $program --directory $work/project-$1 resolve --dry-run --quiet'"; }
hyperfine --warmup 1 --runs "${BENCH_RUNS:-5}" --style none --export-json "$work/cold.json" "$(cold 8643)" "$(cold 8642)" >/dev/null
echo "package by package against a closure: $(ratio "$work/cold.json")"
