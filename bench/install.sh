#!/usr/bin/env bash
# Installing 300 packages with 30,000 files: all of them in the store, against `cp -al` of the same tree;
# and once more with nothing to do, against reading the lock and looking at each package's folder.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-packages.py" "$work" "${BENCH_PACKAGES:-300}" "${BENCH_FILES:-100}"
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cd "$work/project"
"$program" install --quiet

mkdir -p "$work/tree"
cp -a shelf/. "$work/tree"
hyperfine --warmup 1 --runs "$runs" --style none --export-json "$work/warm.json" \
    --prepare 'rm -rf shelf' "$program install" \
    --prepare "rm -rf $work/copy" "cp -al $work/tree $work/copy" >/dev/null
echo "install, all in the store: $(ratio "$work/warm.json")"

cat >"$work/look.rs" <<'RS'
use std::{env, fs};
fn main() {
    let lock = fs::read_to_string("bibliotax.lock").unwrap();
    let names = lock.lines().filter_map(|line| line.split("{\"name\":\"").nth(1)?.split('"').next());
    let found = names.filter(|name| fs::metadata(format!("shelf/{name}")).is_ok()).count();
    assert!(found > 0, "{:?}", env::current_dir());
}
RS
rustc -O -o "$work/look" "$work/look.rs"
hyperfine --shell=none --warmup 5 --runs $((runs * 4)) --style none --export-json "$work/nothing.json" \
    "$program install" "$work/look" >/dev/null
echo "install, nothing to do: $(ratio "$work/nothing.json")"
