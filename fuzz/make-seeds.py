#!/usr/bin/env python3
"""Writes what fuzzing begins with into `seeds/`: make-seeds.py DEMO, where DEMO is a folder that `bibliotax demo DEMO` filled."""
import gzip, io, lzma, pathlib, shutil, subprocess, sys, tarfile, zipfile

demo = pathlib.Path(sys.argv[1])
seeds = pathlib.Path(__file__).parent / "seeds"
shutil.rmtree(seeds, ignore_errors=True)


def copy(target, *places):
    (seeds / target).mkdir(parents=True, exist_ok=True)
    for number, place in enumerate(places):
        shutil.copyfile(next(demo.glob(place)), seeds / target / f"demo-{number}")


copy("lock", "fernhollow/hand-unit/bibliotax.lock", "fernhollow/gate-kiosk/bibliotax.lock", "together/bibliotax.lock")
copy("state", "fernhollow/hand-unit/shelf/.state.json", "together/shelf/.state.json")
copy("history", "registries/seedhouse/packages/*/moss-map.jsonl", "registries/seedhouse/packages/*/day-clock.jsonl")
copy("description", "registries/seedhouse/registry.json", "registries/fernhollow/registry.json")
copy("steps", "together/bibliotax.steps/*")
copy("manifest", "fernhollow/hand-unit/bibliotax.toml", "together/bibliotax.toml", "fernhollow/valve-core/bibliotax.toml")
copy("kit", "fernhollow/hand-unit.kit")

(seeds / "card").mkdir()
cards = [file for file in demo.glob("registries/*/files/*/*") if file.read_bytes()[:8] == b'{"name":']
cards.sort(key=lambda file: file.stat().st_size)
for number, card in enumerate(cards[-3:]):
    shutil.copyfile(card, seeds / "card" / f"demo-{number}")

plain = io.BytesIO()
with tarfile.open(fileobj=plain, mode="w") as tar:
    for name, text in [("include/dew_point.h", b"int dew_point(int, int);\n"), ("a", b"x" * 2000)]:
        entry = tarfile.TarInfo(name)
        entry.size = len(text)
        tar.addfile(entry, io.BytesIO(text))
    link = tarfile.TarInfo("lib/link.h")
    link.type, link.linkname = tarfile.SYMTYPE, "../include/dew_point.h"
    tar.addfile(link)
zipped = io.BytesIO()
with zipfile.ZipFile(zipped, "w", zipfile.ZIP_DEFLATED) as archive:
    archive.writestr("include/dew_point.h", "int dew_point(int, int);\n")
    archive.writestr("data/", "")
tar = plain.getvalue()
packed = subprocess.run(["zstd", "-qc"], input=tar, capture_output=True, check=True).stdout
(seeds / "unpack").mkdir()
for number, data in enumerate([tar, gzip.compress(tar, mtime=0), lzma.compress(tar), packed, zipped.getvalue()]):
    (seeds / "unpack" / f"format-{number}").write_bytes(bytes([number]) + data)

(seeds / "page").mkdir()
LINK = "https://files.example/moss/moss-1.1.zip"
PAGES = {
    "page": f'<!doctype html><base href="x/"><a href="{LINK}">1.1</a><a href=moss-1.2.zip>',
    "atom": '<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom"><id>m</id><title>Moss</title>'
    f'<updated>2026-10-02T08:00:00Z</updated><entry><id>1</id><title>1.1</title><updated>2026-10-02T08:00:00Z</updated><link href="{LINK}"/>'
    '<content type="html">&lt;a href="moss-1.2.zip"&gt;</content></entry></feed>',
    "rss": f'<rss version="2.0"><channel><title>Moss</title><link>{LINK}</link><description>m</description><item><title>1.1</title>'
    f'<pubDate>Fri, 02 Oct 2026 08:00:00 GMT</pubDate><enclosure url="{LINK}" length="1" type="application/zip"/></item></channel></rss>',
    "json": f'{{"items":[{{"date_published":"2026-10-02T08:00:00Z","attachments":[{{"url":"{LINK}"}}]}}]}}',
}
for name, text in PAGES.items():
    (seeds / "page" / name).write_text(text)

(seeds / "bill").mkdir()
BILLS = {
    "cyclonedx": '{"bomFormat":"CycloneDX","specVersion":"1.6","components":[{"type":"library","group":"fern","name":"moss","version":"1",'
    '"purl":"pkg:generic/fern/moss@1","hashes":[{"alg":"SHA-256","content":"00"}],"components":[{"type":"file","name":"f"}]}]}',
    "spdx2": '{"spdxVersion":"SPDX-2.3","packages":[{"SPDXID":"SPDXRef-a","name":"moss","versionInfo":"1","checksums":[{"algorithm":'
    '"SHA256","checksumValue":"00"}],"externalRefs":[{"referenceType":"purl","referenceLocator":"pkg:generic/moss@1"}]}],"relationships":'
    '[{"spdxElementId":"SPDXRef-DOCUMENT","relationshipType":"DESCRIBES","relatedSpdxElement":"SPDXRef-a"}]}',
    "spdx3": '{"@graph":[{"type":"CreationInfo","specVersion":"3.0.1"},{"type":"software_Package","spdxId":"urn:a","name":"moss",'
    '"software_packageVersion":"1","verifiedUsing":[{"type":"Hash","algorithm":"sha256","hashValue":"00"}]},{"type":"Relationship",'
    '"from":"urn:a","to":["urn:b"],"relationshipType":"contains"},{"type":"software_Sbom","rootElement":["urn:c"]}]}',
}
for name, text in BILLS.items():
    (seeds / "bill" / name).write_text(text)

(seeds / "merge").mkdir()
BASE = '[needs]\ndew-point = "1" # dew\nmoss = { range = "1" }\n[workspace]\nfolders = ["a"]\n'
SIDES = {
    "both-add": (BASE, BASE.replace("moss", 'ash = "1"\nmoss'), BASE.replace("moss", 'elm = "2"\nmoss')),
    "conflict": (BASE, BASE.replace('"1" #', '"2" #'), BASE.replace('"1" #', '"3" #')),
    "lists": (BASE, BASE.replace('["a"]', '["a", "b"]'), BASE.replace('["a"]', "[]")),
}
for name, sides in SIDES.items():
    (seeds / "merge" / name).write_text("\0".join(sides))
