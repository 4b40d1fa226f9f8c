"""Publishes small releases from several connections at once; prints how many a second were accepted.

Usage: publish.py URL RELEASES TOKEN... (a publisher for each token, each with a package of its own)
"""

import gzip
import hashlib
import http.client
import io
import json
import random
import socket
import sys
import tarfile
import threading
import time
import urllib.parse


def archive(text):
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as tar:
        entry = tarfile.TarInfo("src/moss.c")
        entry.size = len(text)
        tar.addfile(entry, io.BytesIO(text))
    return gzip.compress(packed.getvalue(), mtime=0)


class Publisher(threading.Thread):
    def __init__(self, url, releases, token, package):
        super().__init__()
        self.address, self.releases, self.token, self.package = url.netloc, releases, token, package
        self.accepted = 0

    def ask(self, connection, method, path, body=None):
        headers = {"authorization": f"Bearer {self.token}"}
        connection.request(method, path, body, headers)
        answer = connection.getresponse()
        return answer.status, answer.read()

    def run(self):
        connection = http.client.HTTPConnection(self.address)
        connection.connect()
        connection.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        folder = hashlib.sha256(self.package.encode()).hexdigest()[:2]
        for number in range(self.releases):
            packed = archive(f"int moss_{random.random()};\n".encode())
            digest = hashlib.sha256(packed).hexdigest()
            record = {"part": "main", "sha256": digest, "size": len(packed), "format": "tar.gz"}
            card = {"name": self.package, "version": f"1.{number}.0", "published": "2026-03-01T08:00:00Z"}
            card["files"] = [record]
            self.ask(connection, "GET", f"/packages/{folder}/{self.package}.jsonl")
            self.ask(connection, "HEAD", f"/api/v1/files/{digest}")
            self.ask(connection, "PUT", f"/api/v1/files/{digest}", packed)
            status, told = self.ask(connection, "POST", "/api/v1/releases", json.dumps(card))
            if status not in (200, 201):
                print(status, told.decode(), file=sys.stderr)
            self.accepted += status in (200, 201)


url, releases = urllib.parse.urlsplit(sys.argv[1]), int(sys.argv[2])
run = f"{time.time_ns() % 10**9:x}"
publishers = [Publisher(url, releases, token, f"moss-{run}-{n}") for n, token in enumerate(sys.argv[3:])]
begun = time.monotonic()
for publisher in publishers:
    publisher.start()
for publisher in publishers:
    publisher.join()
accepted = sum(publisher.accepted for publisher in publishers)
print(f"{accepted / (time.monotonic() - begun):.1f}")
