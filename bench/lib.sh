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

# make_fits: a project with 2,000 packages on 12 targets and its registry, locked; leads into the project.
make_fits() {
    python3 "$bench/make-fits.py" "$work" 2000 5
    "$program" registry create --quiet "$work/seedhouse" --facets "$work/facets.json"
    "$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
    cargo build --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-registry --example read-histories
    cd "$work/project"
    "$program" resolve --quiet
}

# ratio FILE: the median of the first command in a result of hyperfine, divided by that of the second.
ratio() {
    python3 - "$1" <<'PY'
import json, sys
a, b = (result["median"] for result in json.load(open(sys.argv[1]))["results"])
print(f"{a * 1000:.1f} ms against {b * 1000:.1f} ms: {a / b:.2f}x")
PY
}
