"""Asks a language server as an editor does, and prints how long its answers take.

Usage: editor.py PROGRAM MANIFEST. The manifest needs `bed-n…` packages, as `make-workspace.py` writes it.
"""

import json
import statistics
import subprocess
import sys
import threading
import time

PROGRAM, MANIFEST = sys.argv[1:]


class Server:
    """A language server, with what it said."""

    def __init__(self):
        self.process = subprocess.Popen([PROGRAM, "language-server"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        self.uri, self.version, self.asked = "file://" + MANIFEST, 0, 0
        self.answers, self.diagnostics, self.unasked = {}, [], []
        self.heard = threading.Condition()
        threading.Thread(target=self.listen, daemon=True).start()
        self.ask("initialize", {"capabilities": {"workspace": {"inlayHint": {"refreshSupport": True}}}})
        self.send({"method": "initialized", "params": {}})

    def listen(self):
        while header := self.process.stdout.readline():
            self.process.stdout.readline()
            message = json.loads(self.process.stdout.read(int(header.split(b":")[1])))
            with self.heard:
                if "method" not in message:
                    self.answers[message["id"]] = message
                elif message["method"] == "textDocument/publishDiagnostics":
                    if message["params"]["uri"] == self.uri:
                        self.diagnostics = [one["code"] for one in message["params"]["diagnostics"]]
                else:
                    self.unasked.append(message["method"])
                self.heard.notify_all()

    def send(self, message):
        body = json.dumps({"jsonrpc": "2.0", **message}).encode()
        self.process.stdin.write(b"Content-Length: %d\r\n\r\n%s" % (len(body), body))
        self.process.stdin.flush()

    def ask(self, method, params):
        self.asked += 1
        self.send({"id": self.asked, "method": method, "params": params})
        with self.heard:
            self.heard.wait_for(lambda: self.asked in self.answers, 30)
            return self.answers.pop(self.asked)["result"]

    def wait(self, is_there, seconds=20):
        """Seconds until something is there."""
        begun = time.perf_counter()
        with self.heard:
            if not self.heard.wait_for(is_there, seconds):
                sys.exit("what was waited for didn't come")
        return time.perf_counter() - begun

    def show(self, text):
        """Opens the text, or changes all of it."""
        self.version += 1
        if self.version == 1:
            document = {"uri": self.uri, "languageId": "toml", "version": 1, "text": text}
            self.send({"method": "textDocument/didOpen", "params": {"textDocument": document}})
        else:
            document = {"uri": self.uri, "version": self.version}
            params = {"textDocument": document, "contentChanges": [{"text": text}]}
            self.send({"method": "textDocument/didChange", "params": params})

    def insert(self, line, column, text):
        self.version += 1
        place = {"line": line, "character": column}
        change = {"range": {"start": place, "end": place}, "text": text}
        document = {"uri": self.uri, "version": self.version}
        self.send({"method": "textDocument/didChange", "params": {"textDocument": document, "contentChanges": [change]}})

    def memory(self):
        with open(f"/proc/{self.process.pid}/status") as status:
            return int(next(line for line in status if line.startswith("VmHWM")).split()[1]) // 1024


def timed(ask, times=60):
    taken = []
    for _ in range(times):
        begun = time.perf_counter()
        ask()
        taken.append((time.perf_counter() - begun) * 1000)
    return taken


def told(name, taken):
    taken = sorted(taken)
    nearly_all = taken[int(len(taken) * 0.99)]
    print(f"{name}: {statistics.median(taken):.1f} ms, 99 %: {nearly_all:.1f} ms, worst {taken[-1]:.1f} ms")


server = Server()
document = {"textDocument": {"uri": server.uri}}
text = open(MANIFEST).read()
line = text.split("\n").index("[needs]") + 1


def at(column, on=line):
    return {**document, "position": {"line": on, "character": column}}


begun = time.perf_counter()
server.show(text)
server.wait(lambda: "workspace/inlayHint/refresh" in server.unasked)
print(f"all is known after {time.perf_counter() - begun:.2f} s")
whole = {"start": {"line": 0, "character": 0}, "end": {"line": 100_000, "character": 0}}
questions = {
    "hover": ("textDocument/hover", at(3)),
    "symbols": ("textDocument/documentSymbol", document),
    "hints": ("textDocument/inlayHint", {**document, "range": whole}),
    "actions": ("textDocument/codeAction", {**document, "range": whole, "context": {"diagnostics": []}}),
    "definition": ("textDocument/definition", at(3)),
    "links": ("textDocument/documentLink", document),
}
for name, question in questions.items():
    told(name, timed(lambda: server.ask(*question)))

slip = text.replace("[needs]\n", "[needs]\nbed-n1\n")
server.show(slip)
told("completion of a package", timed(lambda: server.ask("textDocument/completion", at(6))))
server.show(text.replace("[needs]\n", '[needs]\nbed-n7 = "\n'))
told("completion of a range", timed(lambda: server.ask("textDocument/completion", at(10))))

# Each change is followed by a question, a hundred times a second.
server.show(slip)
taken, begun, changes = [], time.perf_counter(), 0
while (now := time.perf_counter()) - begun < 10:
    server.insert(line + 1, 0, f"# {changes}\n")
    asked = time.perf_counter()
    server.ask("textDocument/completion", at(6))
    taken.append((time.perf_counter() - asked) * 1000)
    changes += 1
    time.sleep(max(0, 0.01 - (time.perf_counter() - now)))
told(f"completion while {changes / 10:.0f} changes a second come", taken)

server.show(text)
server.wait(lambda: "package.unknown" not in server.diagnostics)
server.show(text.replace("[needs]\n", '[needs]\nnobody-here = "1"\n'))
print(f"an unknown package is shown after {server.wait(lambda: 'package.unknown' in server.diagnostics):.2f} s")

many = "".join(f'bed-n{number} = "1"\n' for number in range(8_000))
server.show(text.replace("[needs]\n", "[needs]\n" + many, 1))
for name in ["hover", "symbols", "hints", "links"]:
    told(f"{name} among 8,000 dependencies", timed(lambda: server.ask(*questions[name]), 10))
print(f"memory: {server.memory()} MB")
