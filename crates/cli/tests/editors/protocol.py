"""Meets the corners of the Language Server Protocol with the client of pygls, whose types refuse an answer that isn't as the protocol says.

Usage: protocol.py PROGRAM MANIFEST. Prints what was seen, a line each. Any surprise ends it with an error.
"""

import asyncio
import json
import sys
from pathlib import Path

from lsprotocol import types
from pygls.exceptions import JsonRpcException
from pygls.lsp.client import LanguageClient
from pygls.workspace import PositionCodec

PROGRAM, MANIFEST = sys.argv[1], Path(sys.argv[2])
URI = MANIFEST.as_uri()
PATIENCE = 20


class Editor(LanguageClient):
    """A client that keeps what the server says unasked."""

    def __init__(self):
        super().__init__("test-editor", "1")
        self.diagnostics, self.said, self.progress, self.refused, self.version = [], [], [], [], 0
        self.heard = asyncio.Event()

        @self.feature(types.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)
        def published(params: types.PublishDiagnosticsParams):
            if params.uri == URI and params.version == self.version:
                self.diagnostics = params.diagnostics
                self.heard.set()

        @self.feature(types.WINDOW_SHOW_MESSAGE)
        def shown(params: types.ShowMessageParams):
            self.said.append(params.message)

        @self.feature(types.WINDOW_WORK_DONE_PROGRESS_CREATE)
        def created(_: types.WorkDoneProgressCreateParams):
            return None

        @self.feature(types.PROGRESS)
        def progressed(params: types.ProgressParams):
            self.progress.append(params.value["kind"])

        @self.feature(types.CLIENT_REGISTER_CAPABILITY)
        def registered(_: types.RegistrationParams):
            return None

    def report_server_error(self, error, source):
        """A message that isn't as the protocol says; an error without an id is the answer to a message that can't be read."""
        self.refused.append(error)

    async def begin(self, encodings):
        await self.start_io(PROGRAM, "language-server", cwd=MANIFEST.parent)
        general = types.GeneralClientCapabilities(position_encodings=encodings)
        window = types.WindowClientCapabilities(work_done_progress=True)
        result = await self.initialize_async(
            types.InitializeParams(capabilities=types.ClientCapabilities(general=general, window=window))
        )
        self.initialized(types.InitializedParams())
        self.encoding = result.capabilities.position_encoding
        return result

    def open(self, text):
        self.version, self.text = 1, text
        item = types.TextDocumentItem(uri=URI, language_id="toml", version=1, text=text)
        self.text_document_did_open(types.DidOpenTextDocumentParams(text_document=item))

    def change(self, changes, text):
        self.version, self.text = self.version + 1, text
        document = types.VersionedTextDocumentIdentifier(uri=URI, version=self.version)
        self.text_document_did_change(
            types.DidChangeTextDocumentParams(text_document=document, content_changes=changes)
        )

    def replace(self, text):
        self.change([types.TextDocumentContentChangeWholeDocument(text=text)], text)

    def insert(self, before, new):
        """Puts a text in front of another by a change of just that place."""
        at = self.text.index(before)
        place = self.position(at)
        change = types.TextDocumentContentChangePartial(range=types.Range(start=place, end=place), text=new)
        self.change([change], self.text[:at] + new + self.text[at:])

    def position(self, at):
        """The place of a letter, by pygls' own reckoning."""
        lines = self.text.split("\n")
        line = self.text.count("\n", 0, at)
        column = at - (self.text.rfind("\n", 0, at) + 1)
        codec = PositionCodec(self.encoding)
        return codec.position_to_client_units(lines, types.Position(line=line, character=column))

    def at(self, word, behind=0):
        place = self.position(self.text.index(word) + behind)
        return {"text_document": types.TextDocumentIdentifier(uri=URI), "position": place}

    async def diagnosed(self, is_wanted):
        async with asyncio.timeout(PATIENCE):
            while not is_wanted(self.diagnostics):
                self.heard.clear()
                await self.heard.wait()
        return self.diagnostics

    async def end(self):
        await self.shutdown_async(None)
        self.exit(None)
        await self._server.wait()
        await self.stop()
        return self._server.returncode


def say(what):
    print(what, flush=True)


async def answers_are_of_the_protocols_types(text):
    editor = Editor()
    await editor.begin([types.PositionEncodingKind.Utf16])
    editor.open(text + "[needs-for.test]\nmoss-map = \"1\"\n")
    await editor.diagnosed(lambda found: any(one.code == "rules.licenses" for one in found))
    document = types.TextDocumentIdentifier(uri=URI)
    whole = types.Range(start=types.Position(line=0, character=0), end=types.Position(line=99, character=0))
    completed = await editor.text_document_completion_async(types.CompletionParams(**editor.at("dew-point", 3)))
    resolved = await editor.completion_item_resolve_async(completed.items[0])
    hovered = await editor.text_document_hover_async(types.HoverParams(**editor.at("dew-point")))
    hints = await editor.text_document_inlay_hint_async(types.InlayHintParams(text_document=document, range=whole))
    context = types.CodeActionContext(diagnostics=editor.diagnostics)
    actions = await editor.text_document_code_action_async(
        types.CodeActionParams(text_document=document, range=whole, context=context)
    )
    await editor.workspace_execute_command_async(
        types.ExecuteCommandParams(command="bibliotax.install", arguments=[str(MANIFEST)])
    )
    defined = await editor.text_document_definition_async(types.DefinitionParams(**editor.at("dew-point")))
    links = await editor.text_document_document_link_async(types.DocumentLinkParams(text_document=document))
    symbols = await editor.text_document_document_symbol_async(types.DocumentSymbolParams(text_document=document))
    place = editor.at("kiosk]")
    prepared = await editor.text_document_prepare_rename_async(types.PrepareRenameParams(**place))
    renamed = await editor.text_document_rename_async(types.RenameParams(**place, new_name="desk"))
    seen = [completed, resolved, hovered, hints[0], actions[0], defined, links[0], symbols[0], prepared, renamed]
    say("answers: " + ", ".join(type(one).__name__ for one in seen))
    say(f"said: {editor.said}, progress: {editor.progress[0]} to {editor.progress[-1]}")
    say(f"ended: {await editor.end()}, refused: {editor.refused}")


async def places_count_what_was_agreed_on(text):
    kinds = types.PositionEncodingKind
    for offered in [[kinds.Utf8, kinds.Utf16], [kinds.Utf16], [kinds.Utf32], ["latin-1"], None]:
        editor = Editor()
        result = await editor.begin(offered)
        chosen = result.capabilities.position_encoding
        # A comment and a value with letters of one to four bytes, and a place behind them.
        slip = "x = { range = \"1\", targets = [\"é🌿👩‍🔧\" \"b\"] } # é🌿\n"
        editor.open(text.replace("[needs]\n", "[needs]\n" + slip))
        found = await editor.diagnosed(lambda found: any(one.code == "manifest.missing-comma" for one in found))
        range = found[0].range
        lines = editor.text.split("\n")
        letters = PositionCodec(chosen).range_from_client_units(lines, range)
        there = lines[letters.start.line][: letters.start.character].rsplit("[", 1)[1]
        # A change of a part, reckoned in the same way, puts it right.
        editor.insert(" \"b\"] }", ",")
        await editor.diagnosed(lambda found: all(one.code != "manifest.missing-comma" for one in found))
        names = offered and [getattr(one, "value", one) for one in offered]
        say(f"offered {names}: {getattr(chosen, 'value', chosen)}, the slip is behind {there}")
        await editor.end()


async def messages_come_in_pieces_and_may_be_broken(text):
    editor = Editor()
    await editor.begin([types.PositionEncodingKind.Utf16])
    editor.open(text)
    to_server = editor._server.stdin
    question = {"jsonrpc": "2.0", "id": "in pieces", "method": "textDocument/hover"}
    question["params"] = {"textDocument": {"uri": URI}, "position": {"line": 0, "character": 1}}

    def framed(body, headers=""):
        return f"Content-Length: {len(body)}\r\n{headers}\r\n".encode() + body

    answers = {}
    handle = editor.protocol.handle_message
    editor.protocol.handle_message = lambda message: (
        answers.setdefault(getattr(message, "id", None), message), handle(message)
    )

    async def answered(id):
        async with asyncio.timeout(PATIENCE):
            while id not in answers:
                await asyncio.sleep(0.01)
        return answers[id]

    for byte in framed(json.dumps(question).encode()):
        to_server.write(bytes([byte]))
        await to_server.drain()
    say(f"in pieces: {type(await answered('in pieces')).__name__}")
    # Two in one go, with the encoding as old clients name it.
    pair = b"".join(
        framed(json.dumps({**question, "id": id}).encode(), "Content-Type: application/vscode-jsonrpc; charset=utf8\r\n")
        for id in ["first", "second"]
    )
    to_server.write(pair)
    say(f"in one go: {type(await answered('first')).__name__}, {type(await answered('second')).__name__}")
    broken = {
        "latin-1": framed("{\"é\": 1}".encode("latin-1")),
        "utf-16": framed(json.dumps(question).encode("utf-16"), "Content-Type: application/json; charset=utf-16\r\n"),
        "cut off": framed(b"{\"jsonrpc\": \"2.0\", \"id\": 1"),
        "a list": framed(json.dumps([question]).encode()),
    }
    for name, message in broken.items():
        answers.pop(None, None)
        to_server.write(message)
        say(f"{name}: {(await answered(None)).error.code}")
    # One that nobody can answer, and one whose answer could come in parts.
    try:
        document = types.TextDocumentIdentifier(uri=URI)
        await editor.text_document_folding_range_async(types.FoldingRangeParams(text_document=document))
    except JsonRpcException as error:
        say(f"unknown: {error.code}")
    partial = types.DocumentSymbolParams(
        text_document=types.TextDocumentIdentifier(uri=URI), partial_result_token="part", work_done_token="work"
    )
    say(f"in parts, if the server likes: {len(await editor.text_document_document_symbol_async(partial)) > 2}")
    say(f"ended: {await editor.end()}")


async def questions_that_wait_are_cancelled(text):
    editor = Editor()
    await editor.begin([types.PositionEncodingKind.Utf16])
    # As large as manifests are read.
    editor.open(text + "# what the garden is for\n" * 40_000)
    params = types.DocumentSymbolParams(text_document=types.TextDocumentIdentifier(uri=URI))
    asked = [
        editor.protocol.send_request_async(types.TEXT_DOCUMENT_DOCUMENT_SYMBOL, params, msg_id=f"ask-{number}")
        for number in range(40)
    ]
    for number in range(40):
        editor.cancel_request(types.CancelParams(id=f"ask-{number}"))
    # What was answered already, or never asked, is nothing to cancel.
    editor.cancel_request(types.CancelParams(id="ask-0"))
    editor.cancel_request(types.CancelParams(id=7_000_000))
    async with asyncio.timeout(PATIENCE):
        answers = await asyncio.gather(*asked, return_exceptions=True)
    codes = {getattr(one, "code", None) for one in answers if isinstance(one, Exception)}
    cancelled = sum(isinstance(one, Exception) for one in answers)
    say(f"answered or cancelled: {len(answers)}, codes: {sorted(codes)}, most cancelled: {cancelled > 20}")
    # The text is followed through a hundred changes of a place in it.
    for number in range(100):
        editor.insert("# what the garden", f"# {number}\n")
    editor.insert("# what the garden", "[needs-for.test]\nmoss-map = 1\n")
    found = await editor.diagnosed(lambda found: any(one.code == "manifest.unquoted-value" for one in found))
    line = editor.text.split("\n")[found[0].range.start.line]
    say(f"after a hundred changes of {len(editor.text) // 1_000_000} MB: {line}")
    say(f"ended: {await editor.end()}")


async def an_exit_without_a_shutdown_is_an_error():
    editor = Editor()
    await editor.begin([types.PositionEncodingKind.Utf16])
    editor.exit(None)
    say(f"exit alone: {await editor._server.wait()}")


async def main():
    text = MANIFEST.read_text()
    await answers_are_of_the_protocols_types(text)
    await places_count_what_was_agreed_on(text)
    await messages_come_in_pieces_and_may_be_broken(text)
    await questions_that_wait_are_cancelled(text)
    await an_exit_without_a_shutdown_is_an_error()


asyncio.run(asyncio.wait_for(main(), 120))
