#!/usr/bin/env bash
# Registries of ten thousand, a hundred thousand and a million packages with ten releases each: what finding, needing,
# publishing and serving cost as they grow. BENCH_SIZES names other sizes; a million takes 4 GB of disk and some minutes.
source "$(dirname "$0")/lib.sh"

cargo build --quiet --release --manifest-path "$root/Cargo.toml" -p bibliotax-registry --examples
examples=$root/target/release/examples

# took COMMAND: the seconds and the memory at its peak.
took() { env time --format '%e s, %M KB at most' "$@" 2>&1 >/dev/null | tail -1; }
# median COMMAND: of several runs, in ms.
median() {
    hyperfine --runs "${BENCH_RUNS:-9}" --style none --export-json "$work/one.json" "$@" >/dev/null 2>&1
    python3 -c 'import json,sys; print(round(json.load(open(sys.argv[1]))["results"][0]["median"]*1000, 1), "ms")' "$work/one.json"
}

for size in ${BENCH_SIZES:-10000 100000 1000000}; do
    echo "== $size packages"
    here=$work/$size
    mkdir -p "$here/gate" "$here/author"
    echo "written:              $(took "$examples/make-registry" "$here/seedhouse" "$size" 10)"
    echo "list of names:        $(stat --format %s "$here/seedhouse/names.jsonl.zst") bytes"
    printf '[project]\nname = "gate-kiosk"\n[registries]\nseedhouse = "../seedhouse"\n' >"$here/gate/bibliotax.toml"
    export BIBLIOTAX_STORE=$here/store
    cd "$here/gate"
    echo "first find:           $(took "$program" find moss)"
    database=$(echo "$here"/store/registries/*/names.sqlite)
    for words in moss "moss rain" orchard; do
        hyperfine --warmup 2 --runs "$runs" --style none --export-json "$work/find.json" \
            "$program find $words" "$examples/bare-query $database '$words'" >/dev/null 2>&1
        echo "find $words: $(ratio "$work/find.json")"
    done
    echo "find with a slip:     $(median "$program find orchrd")"
    echo "find, memory:         $(took "$program" find moss)"
    package=$("$program" find moss --format json | python3 -c 'import json,sys; print(json.load(sys.stdin)["hits"][0]["name"])')
    echo "need, warm:           $(median "$program need $package --dry-run"), $(took "$program" need "$package" --dry-run)"
    printf '[project]\nname = "bench-press"\nversion = "1.0.0"\n[registries]\nseedhouse = "../seedhouse"\n' >"$here/author/bibliotax.toml"
    echo one >"$here/author/one.txt"
    echo "publish:              $(median --prepare "sed -i \"s/^version.*/version = \\\"1.\$(date +%s%N).0\\\"/\" $here/author/bibliotax.toml" \
        "$program --directory $here/author publish")"
    "$program" registry serve --quiet "$here/seedhouse" --listen 127.0.0.1:8651 &
    served=$!
    trap 'kill $served 2>/dev/null || true' EXIT
    sleep 1
    ask() { echo "curl --silent --fail --output /dev/null http://127.0.0.1:8651/$1"; }
    echo "served, first find:   $(took curl --silent --max-time 900 "http://127.0.0.1:8651/api/v1/find?q=moss")"
    echo "served, find:         $(median "$(ask 'api/v1/find?q=moss')")"
    echo "served, page:         $(median "$(ask browse/bench-press)")"
    echo "served, closure:      $(median "$(ask api/v1/closure) --json '{\"needs\":[{\"name\":\"$package\",\"range\":\"any\"}]}'")"
    echo "served, memory:       $(grep VmHWM "/proc/$served/status")"
    kill $served
    wait $served 2>/dev/null || true
done
