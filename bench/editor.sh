#!/usr/bin/env bash
# The language server in a workspace of 200 projects with 2,000 packages on 12 targets: how long answers take, also while a hundred
# changes a second come in; how soon an unknown package is shown; and a manifest of 8,000 dependencies.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-workspace.py" "$work" 200 2000 5 12
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
(cd "$work/workspace" && "$program" resolve --quiet)
python3 "$bench/editor.py" "$program" "$work/workspace/bed-100/bibliotax.toml"
