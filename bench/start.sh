#!/usr/bin/env bash
# Start-up: `bibliotax --version` against a program that only prints a line.
source "$(dirname "$0")/lib.sh"

cat >"$work/hello.rs" <<'RS'
fn main() {
    println!("hello, world");
}
RS
rustc -O -o "$work/hello" "$work/hello.rs"
hyperfine --shell=none --warmup 20 --runs $((runs * 20)) --style none --export-json "$work/start.json" \
    "$program --version" "$work/hello" >/dev/null
echo "start: $(ratio "$work/start.json")"
