#!/usr/bin/env python3
"""Makes the cards of many packages that fit different levels, and a project that needs all of them on twelve targets.

Usage: make-fits.py FOLDER PACKAGES RELEASES-PER-PACKAGE
"""
import json
import pathlib
import sys

folder, packages, releases = pathlib.Path(sys.argv[1]), *map(int, sys.argv[2:4])
levels = [str(level) for level in range(1, 13)]
cards = [
    {
        "name": f"bed-n{number}",
        "version": f"1.{release}.0",
        "published": "2026-03-01T08:00:00Z",
        "license": "MIT",
        "fits": {"os": ["linux", "macos"], "arch": "any", "orchard-runtime": str(1 + (number + release) % 3)},
    }
    for number in range(packages)
    for release in range(releases)
]
(folder / "cards.jsonl").write_text("".join(json.dumps(card) + "\n" for card in cards))
(folder / "facets.json").write_text(json.dumps({"orchard-runtime": {"kind": "ladder", "levels": levels}}))
project = folder / "project"
project.mkdir(parents=True, exist_ok=True)
manifest = '[project]\nname = "garden"\n\n[registries]\nseedhouse = "../seedhouse"\n'
for number in range(12):
    manifest += f'\n[targets.shed-{number}]\nos = "{["linux", "macos"][number % 2]}"\narch = "x86_64"\n'
    manifest += f'orchard-runtime = "{levels[number]}"\n'
manifest += "\n[needs]\n" + "".join(f'bed-n{number} = "any"\n' for number in range(packages))
(project / "bibliotax.toml").write_text(manifest.replace('orchard-runtime = "1"\n', 'orchard-runtime = "3"\n').replace(
    'orchard-runtime = "2"\n', 'orchard-runtime = "3"\n'))
