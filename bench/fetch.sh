#!/usr/bin/env bash
# Installing 300 packages with 30,000 files from a served registry into an empty store, against `curl`, `sha256sum` and `tar` on
# all cores, which neither sync nor put anything on a shelf. Prints the most memory that each install took, too.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-packages.py" "$work" "${BENCH_PACKAGES:-300}" "${BENCH_FILES:-100}" zst
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
"$program" registry serve --quiet "$work/seedhouse" --listen 127.0.0.1:8644 &
served=$!
trap 'kill $served' EXIT
sleep 1
cd "$work/project"
sed -i 's|"../seedhouse"|"http://127.0.0.1:8644"|' bibliotax.toml
"$program" install --quiet

# What the reference fetches: where each archive is, and what its digest has to be.
python3 - <<'PY' >"$work/wanted"
import json
for package in json.load(open("bibliotax.lock"))["packages"]:
    for file in package["files"]:
        print(file["sha256"])
PY
sed 's|\(..\)\(.*\)|url = "http://127.0.0.1:8644/files/\1/\1\2"\noutput = "\1\2"|' "$work/wanted" >"$work/urls"
sed 's|.*|&  &|' "$work/wanted" >"$work/sums"
cat >"$work/by-hand" <<SH
set -e
cores=$(nproc)
mkdir "$work/by-hand.d" && cd "$work/by-hand.d"
curl -s --parallel --parallel-max 50 --config "$work/urls"
split -n l/\$cores "$work/sums" sums.
ls sums.* | xargs -P \$cores -n 1 sha256sum --quiet -c
xargs -P \$cores -I{} sh -c 'mkdir {}.d && tar --zstd -xf {} -C {}.d' <"$work/wanted"
SH
hyperfine --warmup 1 --runs "$runs" --style none --export-json "$work/fetch.json" \
    --prepare "rm -rf shelf $work/store" "$program install --quiet" \
    --prepare "rm -rf $work/by-hand.d" "sh $work/by-hand" >/dev/null
echo "install, empty store: $(ratio "$work/fetch.json")"

# memory NAME COMMAND…: the most memory that a command took.
memory() {
    python3 - "$@" <<'PY'
import resource, subprocess, sys
subprocess.run(sys.argv[2:], check=True, stdout=subprocess.DEVNULL)
print(f"{sys.argv[1]}: {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024} MB at most")
PY
}
rm -rf shelf "$work/store"
memory "install, empty store" "$program" install
rm -rf shelf
memory "install, all in the store" "$program" install
memory "install, nothing to do" "$program" install
