#!/usr/bin/env bash
# The commands of a team in a workspace of 200 projects with 2,000 packages, each against reading and parsing the files that it
# has to read: the manifests and the lock; for those that ask registries the histories; for those that look at the shelf that, too.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-workspace.py" "$work" "${BENCH_PROJECTS:-200}" "${BENCH_PACKAGES:-2000}" 5
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cargo build --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-core --example read-workspace
cd "$work/workspace"
"$program" install --quiet
"$program" need --quiet bed-n3 --in bed-9
cp bibliotax.lock "$work/before.lock"
read="$root/target/release/examples/read-workspace ."

# against REFERENCE COMMAND…: measures one of the program's commands.
against() {
    local reference=$1
    shift
    hyperfine --shell=none --warmup 2 --runs "$runs" --style none --ignore-failure --export-json "$work/team.json" \
        "$program $*" "$reference" >/dev/null 2>&1
    echo "$*: $(ratio "$work/team.json")"
}

against "$read" graph
against "$read" graph --to bed-n0
against "$read" graph --format svg
against "$read" graph --format dot
against "$read" compare "$work/before.lock" bibliotax.lock
against "$read" steps
against "$read" task --in bed-7
against "$read shelf" install
against "$read shelf" install --in bed-7
against "$read files" verify
against "$read $work/seedhouse" resolve
against "$read $work/seedhouse" check
against "$read $work/seedhouse" newer
against "$read $work/seedhouse" newer --in bed-7
against "$read $work/seedhouse" explain bed-n0
against "$read $work/seedhouse" fit
against "$read $work/seedhouse" describe bed-n0
against "$read $work/seedhouse" need bed-n7 --in bed-100 --dry-run
against "$read $work/seedhouse" update --dry-run
