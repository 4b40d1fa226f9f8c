#!/usr/bin/env bash
# Resolving a universe that grew over time, 320 packages with 50 releases each, against reading and parsing the
# histories of all its packages with Python's JSON parser.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-universe.py" "$work" 320 50 40
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cat >"$work/read.py" <<'PY'
import json, pathlib, sys
for path in pathlib.Path(sys.argv[1]).glob("packages/*/*.jsonl"):
    for line in path.open():
        json.loads(line)
PY
cd "$work/project"
hyperfine --shell=none --warmup 2 --runs "$runs" --style none --export-json "$work/resolve.json" \
    "$program resolve --dry-run --quiet" "python3 $work/read.py $work/seedhouse" >/dev/null
echo "resolve: $(ratio "$work/resolve.json")"
