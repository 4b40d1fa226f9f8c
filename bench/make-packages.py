#!/usr/bin/env python3
"""Makes archives of many packages with many small files, their cards, and a project that needs them all.

Usage: make-packages.py FOLDER PACKAGES FILES-PER-PACKAGE [zst]

With `zst` the archives are packed by the `zstd` program.
"""
import io
import json
import pathlib
import subprocess
import sys
import tarfile

packed = sys.argv[4:] == ["zst"]
folder, packages, files = pathlib.Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
archives = folder / "archives"
archives.mkdir(parents=True, exist_ok=True)
cards, needs = [], []
for package in range(packages):
    name = f"bed-n{package}"
    path = archives / f"{name}.tar"
    with tarfile.open(path, "w") as archive:
        for number in range(files):
            text = f"/* {name}, part {number} */\n".encode() * (40 + number % 160)
            entry = tarfile.TarInfo(f"part-{number // 20}/file-{number}.h")
            entry.size = len(text)
            archive.addfile(entry, io.BytesIO(text))
    if packed:
        subprocess.run(["zstd", "-q", "--rm", "-f", path], check=True)
        path = path.with_name(path.name + ".zst")
    cards.append({"name": name, "version": "1.0.0", "published": "2026-03-01T09:00:00Z",
                  "files": [{"path": f"archives/{path.name}"}]})
    needs.append(f'{name} = "1"')
(folder / "cards.jsonl").write_text("".join(json.dumps(card) + "\n" for card in cards))
project = folder / "project"
project.mkdir(exist_ok=True)
manifest = '[project]\nname = "beds"\n\n[registries]\nseedhouse = "../seedhouse"\n\n[needs]\n'
(project / "bibliotax.toml").write_text(manifest + "\n".join(needs) + "\n")
