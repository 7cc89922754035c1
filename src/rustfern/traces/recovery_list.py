"""The recovery list of the ODF office suite, in its profile's `registrymodifications.xcu`.

As observed on LibreOffice 7.4: one `<item oor:path="/org.openoffice.Office.Recovery/RecoveryList">` for each open document, with
`OriginalURL` (empty: never saved), `TempURL` (empty: nothing autosaved yet), `Title`, `DocumentState`. URLs are
percent-encoded and then XML-escaped. The same file tells where autosaves go and how often they are made.
"""

from __future__ import annotations

import re
from typing import BinaryIO
from xml.parsers import expat

import msgspec

from rustfern.core.errors import Malformed

_LIMIT = 64 * 1024 * 1024
_LIST = "/org.openoffice.Office.Recovery/RecoveryList"
_MODIFIED = 0x1
_SUCCEEDED = 0x200
_MAX_ENTRIES = 10_000


class RecoveryEntry(msgspec.Struct, frozen=True):
    """One document that was open. Empty text stands for "not given"."""

    item: str
    title: str
    original_url: str
    temp_url: str
    state: int

    @property
    def changed(self) -> bool:
        """Whether the program had recorded that the document was changed."""
        return bool(self.state & _MODIFIED)


class RecoveryList(msgspec.Struct, frozen=True):
    """The list, whole or as far as the file goes: `cut_at` is the byte where it stops being readable."""

    entries: tuple[RecoveryEntry, ...]
    cut_at: int | None = None
    problem: str | None = None


class _Reader:
    def __init__(self) -> None:
        self.entries: list[RecoveryEntry] = []
        self.in_list = False
        self.item: str | None = None
        self.prop: str | None = None
        self.values: dict[str, str] = {}
        self.in_value = False

    def start(self, tag: str, attributes: dict[str, str]) -> None:
        if tag == "item":
            self.in_list = attributes.get("oor:path") == _LIST
        elif not self.in_list:
            return
        elif tag == "node" and attributes.get("oor:op") != "remove":
            self.item, self.values = attributes.get("oor:name", ""), {}
        elif tag == "prop":
            self.prop = attributes.get("oor:name")
        elif tag == "value" and self.prop:
            self.in_value = True
            self.values[self.prop] = ""

    def text(self, text: str) -> None:
        if self.in_value and self.prop:
            self.values[self.prop] += text

    def end(self, tag: str) -> None:
        if tag == "value":
            self.in_value = False
        elif tag == "prop":
            self.prop = None
        elif tag == "node" and self.item is not None:
            values = self.values
            state = values.get("DocumentState", "0")
            self.entries.append(
                RecoveryEntry(
                    self.item,
                    values.get("Title", ""),
                    values.get("OriginalURL", ""),
                    values.get("TempURL", ""),
                    int(state) if re.fullmatch(r"\d{1,9}", state) else 0,
                )
            )
            self.item = None
            if len(self.entries) > _MAX_ENTRIES:
                raise Malformed(f"more than {_MAX_ENTRIES} entries in a recovery list")
        elif tag == "item":
            self.in_list = False


def parse(stream: BinaryIO) -> RecoveryList:
    """Read the list from a stream at its start. What can be read before a cut is kept.

    Raises `Malformed` if this is no such file at all, or if it is larger than 64 MiB.
    """
    reader = _Reader()
    parser = expat.ParserCreate()
    parser.StartElementHandler = reader.start
    parser.CharacterDataHandler = reader.text
    parser.EndElementHandler = reader.end
    parser.EntityDeclHandler = _refuse_entities
    parser.buffer_text = True
    read = 0
    try:
        while chunk := stream.read(1 << 16):
            read += len(chunk)
            if read > _LIMIT:
                raise Malformed("larger than a settings file can be", _LIMIT)
            parser.Parse(chunk, False)
        parser.Parse(b"", True)
    except (LookupError, ValueError) as error:
        # An encoding that nobody knows is named in the declaration.
        raise Malformed(f"it is written in an unknown way ({error})", 0) from error
    except expat.ExpatError as error:
        if parser.CurrentByteIndex <= 0 or (not reader.entries and read < 64):
            raise Malformed(f"not an XML settings file: {expat.ErrorString(error.code)}", 0) from error
        return RecoveryList(tuple(reader.entries), parser.CurrentByteIndex, expat.ErrorString(error.code))
    return RecoveryList(tuple(reader.entries))


def _refuse_entities(*_: object) -> None:
    raise Malformed("a settings file declares no entities")
