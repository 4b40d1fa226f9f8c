#!/usr/bin/env bash
# Resolving hard universes made from problems of logic, against a SAT solver on the same problems.
source "$(dirname "$0")/lib.sh"
command -v cadical >/dev/null || { echo "cadical is wanted: apt-get install cadical" >&2; exit 1; }

# measure FAMILY SIZE SEED
measure() {
    local name=$1-$2-$3 folder=$work/$1-$2-$3
    if [ ! -d "$folder" ]; then
        python3 "$bench/make-hard.py" "$folder" "$@"
        "$program" registry create --quiet "$folder/seedhouse"
        "$program" registry load --quiet "$folder/seedhouse" "$folder/cards.jsonl"
    fi
    cd "$folder/project"
    hyperfine --shell=none --ignore-failure --runs "${BENCH_RUNS:-5}" --style none --export-json "$folder/times.json" \
        "$program resolve --dry-run --quiet" "cadical -q $folder/problem.cnf" >/dev/null 2>&1
    # 10 and 20 are how a SAT solver says yes and no, 0 and 4 how we do.
    local ours=0 theirs=0
    "$program" resolve --dry-run --quiet >/dev/null 2>&1 || ours=$?
    cadical -q "$folder/problem.cnf" >/dev/null 2>&1 || theirs=$?
    echo "$name: $(ratio "$folder/times.json") (answers $ours and $theirs)"
}

for seed in 1 2 3; do measure random 100 $seed; done
for seed in 1 2 3; do measure random 150 $seed; done
for seed in 1 2 3; do measure random 200 $seed; done
for size in 6 7 8; do measure pigeons $size 1; done
for size in 16 20 24; do measure parity $size 1; done
for size in 60 120; do measure colours $size 1; done
