#!/usr/bin/env bash
# Documents of 2,000 locked packages on 12 targets, against reading the lock, the histories of its packages and their cards with
# `serde_json`.
source "$(dirname "$0")/lib.sh"

make_fits
for form in cyclonedx spdx spdx3 purls openvex cyclonedx-vex; do
    hyperfine --shell=none --warmup 2 --runs "$runs" --style none --export-json "$work/export.json" \
        "$program export $form --output $work/document" \
        "$root/target/release/examples/read-histories $work/seedhouse bibliotax.lock --cards" >/dev/null
    echo "export $form: $(ratio "$work/export.json"), $(stat -c %s "$work/document") bytes"
done
