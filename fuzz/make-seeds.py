#!/usr/bin/env python3
"""Writes archives of every format to begin fuzzing with: make-seeds.py, then `corpus/unpack` has them.

A kit to begin with is made by hand: `bibliotax kit make fuzz/corpus/kit/whole` in any small project.
"""
import gzip, io, lzma, pathlib, subprocess, tarfile, zipfile

corpus = pathlib.Path(__file__).parent / "corpus" / "unpack"
corpus.mkdir(parents=True, exist_ok=True)
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
formats = [tar, gzip.compress(tar), lzma.compress(tar), packed, zipped.getvalue()]
for number, data in enumerate(formats):
    (corpus / f"format-{number}").write_bytes(bytes([number]) + data)
