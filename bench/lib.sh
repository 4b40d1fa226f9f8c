# What the benches share: the built program, a work folder, and hyperfine.
# shellcheck shell=bash
set -euo pipefail

bench=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
root=$(dirname "$bench")
work=${BENCH_WORK:-$(mktemp -d)}
runs=${BENCH_RUNS:-15}

command -v hyperfine >/dev/null || { echo "hyperfine is wanted: apt-get install hyperfine" >&2; exit 1; }
cargo build --quiet --release --manifest-path "$root/Cargo.toml"
program=$root/target/release/bibliotax
export BIBLIOTAX_STORE=$work/store
mkdir -p "$work"

# ratio FILE: the median of the first command in a result of hyperfine, divided by that of the second.
ratio() {
    python3 - "$1" <<'PY'
import json, sys
a, b = (result["median"] for result in json.load(open(sys.argv[1]))["results"])
print(f"{a * 1000:.1f} ms against {b * 1000:.1f} ms: {a / b:.2f}x")
PY
}
