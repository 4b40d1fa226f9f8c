#!/usr/bin/env python3
"""Makes a workspace of many projects that need packages, and each other by path, with the cards of those packages. With TARGETS, the
projects run on so many, and most packages declare what they fit.

Usage: make-workspace.py FOLDER PROJECTS PACKAGES RELEASES-PER-PACKAGE [TARGETS]
"""
import io
import json
import pathlib
import random
import sys
import tarfile

folder, projects, packages, releases = pathlib.Path(sys.argv[1]), *map(int, sys.argv[2:5])
targets = int(sys.argv[5]) if len(sys.argv) > 5 else 0
rng = random.Random(20260301)
names = [f"bed-n{number}" for number in range(packages)]
folder.mkdir(parents=True, exist_ok=True)
with tarfile.open(folder / "one.tar", "w") as archive:
    text = b"moss\n"
    entry = tarfile.TarInfo("moss.txt")
    entry.size = len(text)
    archive.addfile(entry, io.BytesIO(text))
with open(folder / "cards.jsonl", "w") as cards:
    for release in range(releases):
        for number, name in enumerate(names):
            # Needs go to packages with lower numbers, the low ones being the popular ones.
            needed = sorted({int(number * rng.random() ** 2) for _ in range(min(number, 3))})
            needs = [{"name": names[one], "range": f"1.{rng.randint(0, release)} .. 2"} for one in needed]
            fits = {"os": ["linux", "macos"], "arch": "any"} if targets and number % 10 else {}
            cards.write(json.dumps({"name": name, "version": f"1.{release}.0", "published": f"2026-03-{1 + release:02}T08:00:00Z",
                                    "license": "MIT", "fits": fits, "needs": needs, "files": [{"path": "one.tar"}]}) + "\n")
workspace = folder / "workspace"
workspace.mkdir(exist_ok=True)
(workspace / "bibliotax.toml").write_text(
    '[workspace]\nfolders = ["bed-*"]\n\n[registries]\nseedhouse = "../seedhouse"\n\n[shared]\n'
    + "".join(f'{name} = "1"\n' for name in names[:20])
    + "".join(f'\n[targets.shed-{number}]\nos = "{["linux", "macos"][number % 2]}"\narch = "x86_64"\n' for number in range(targets)))
each = packages // projects
for number in range(projects):
    project = workspace / f"bed-{number}"
    project.mkdir(exist_ok=True)
    own = names[number * each:(number + 1) * each]
    text = f'[project]\nname = "bed-{number}"\nversion = "0.1.0"\n\n[needs]\n'
    text += "".join(f'{name} = "1"\n' for name in own if name not in names[:20])
    text += "".join(f'{name} = "shared"\n' for name in rng.sample(names[:20], 3))
    if number:
        text += f'bed-{number // 2} = {{ path = "../bed-{number // 2}" }}\n'
    (project / "bibliotax.toml").write_text(text + '\n[tasks]\nlook = "true"\n')
