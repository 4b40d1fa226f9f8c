#!/usr/bin/env python3
"""Makes the cards of a universe that grew over time, and a project in it.

Popular packages are needed by many; majors break now and then; some packages lag behind with old ranges.

Usage: make-universe.py FOLDER PACKAGES RELEASES-PER-PACKAGE DIRECT-NEEDS
"""
import datetime
import json
import pathlib
import random
import sys

folder, packages, releases, direct = pathlib.Path(sys.argv[1]), *map(int, sys.argv[2:5])
rng = random.Random(20260301)
names = [f"bed-n{number}" for number in range(packages)]
start = datetime.datetime(2020, 1, 1)
newest = {}
cards = []
for step in range(releases):
    for number, name in enumerate(names):
        major, minor = newest.get(name, (1, -1))
        breaks = minor > 3 and rng.random() < 0.12
        major, minor = (major + 1, 0) if breaks else (major, minor + 1)
        newest[name] = (major, minor)
        needs = []
        # Needs go to packages with lower numbers, the low ones being the popular ones.
        for target in sorted({int(number * rng.random() ** 2) for _ in range(min(number, 5))}):
            to_major, to_minor = newest[names[target]]
            if rng.random() < 0.01 and to_major > 1:
                to_major, to_minor = to_major - 1, 0
            needs.append({"name": names[target], "range": f"{to_major}.{rng.randint(0, to_minor)} .. {to_major + 1}"})
        published = start + datetime.timedelta(days=step * 20, minutes=number)
        cards.append({"name": name, "version": f"{major}.{minor}.0", "published": published.isoformat() + "Z",
                      "license": "MIT", "needs": needs})
(folder / "cards.jsonl").write_text("".join(json.dumps(card) + "\n" for card in cards))
project = folder / "project"
project.mkdir(parents=True, exist_ok=True)
manifest = '[project]\nname = "garden"\n\n[registries]\nseedhouse = "../seedhouse"\n\n[needs]\n'
manifest += "".join(f'{name} = "any"\n' for name in names[-direct:])
(project / "bibliotax.toml").write_text(manifest)
