#!/usr/bin/env python3
"""Makes an archive of advisories in the OSV format: most of them about packages that nobody has.

Usage: make-advisories.py FILE COUNT PACKAGES
"""
import json
import random
import sys
import zipfile

place, count, packages = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
rng = random.Random(20260301)
text = "A long probe name overruns the table, and what stands behind it is read as if it were one. " * 6
vectors = ["CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N", "CVSS:3.1/AV:L/AC:H/PR:L/UI:N/S:U/C:L/I:N/A:N"]
with zipfile.ZipFile(place, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
    for number in range(count):
        ours = number % 100 == 0
        name = f"bed-n{rng.randrange(packages)}" if ours else f"weed-n{rng.randrange(count)}"
        package = {"ecosystem": "Bibliotax" if ours else "PyPI", "name": name}
        record = {"schema_version": "1.7.0", "id": f"FERN-2026-{number:06}", "modified": "2026-02-01T09:00:00Z",
                  "published": "2026-02-01T09:00:00Z", "summary": f"The table of {name} overruns", "details": text,
                  "aliases": [f"CVE-2026-{number}"], "severity": [{"type": "CVSS_V3", "score": rng.choice(vectors)}],
                  "affected": [{"package": package, "versions": [f"0.{at}" for at in range(20)],
                                "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": "0.9"}]}]}],
                  "references": [{"type": "ADVISORY", "url": f"https://seedhouse.example/{number}"}]}
        archive.writestr(f"{number:06}.json", json.dumps(record))
