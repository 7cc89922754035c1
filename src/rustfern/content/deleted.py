"""Whether what lies in the place of a deleted file is still its own: other files have come and gone there, of which nothing is recorded."""

from __future__ import annotations

from typing import BinaryIO

from rustfern.core.model import Content, Entry, State
from rustfern.formats import registry as formats
from rustfern.formats.format_table import class_of, extension_of, extension_right, format_of_extension, title_of
from rustfern.formats.paged_bytes import Part
from rustfern.sources.registry import Sources

_ENDED = (b"PK\x03\x04", b"\x89PNG")
"""Beginnings of formats behind whose end nothing stands, as a rule."""
_MAYBE_ENDED = (b"\xff\xd8\xff", b"7z\xbc\xaf", b"fLaC", b"\x1f\x8b", b"\xfd7zXZ")
"""The same, where programs append something of their own now and then."""
_SHAPED = (*_ENDED, *_MAYBE_ENDED, b"%PDF", b"{\\rtf", b"RIFF", b"GIF8", b"II*\0", b"MM\0*")
_TAIL, _LONGEST_WORD = 64, 40


def anothers(door: Sources, stream: BinaryIO, entry: Entry, name: str, found: Content) -> str | None:
    """What shows that the content in a deleted file's place is another one's; None if nothing does.

    Its format is not that of its name; it is shorter than the record says, and something else follows; or a text goes on behind the end that the
    record gives, in the rest of its last cluster, which systems fill with zeros when they write.
    """
    told = format_of_extension(extension_of(entry.name))
    if extension_right(entry.name, found.format) is False and class_of(told) != class_of(found.format):
        return f"what lies in its place is of another format than its name says ({title_of(found.format)}): another file has taken it"
    stream.seek(0)
    head = stream.read(8)
    if head.startswith(_ENDED) or (entry.caution and head.startswith(_MAYBE_ENDED)):
        cut = Part(stream, entry.size - 1)
        if formats.check(cut, name, limits=door.limits, digest=False, counted=False).state is State.INTACT:
            return "what lies in its place ends before its recorded size: another, shorter file has taken it"
    elif not head.startswith(_SHAPED) and b"\0" not in head and _goes_on(door, stream, entry):
        return "the text in its place goes on behind its recorded end: another, longer file has taken it"
    return None


def _goes_on(door: Sources, stream: BinaryIO, entry: Entry) -> bool:
    """Whether a text stops in the middle of a line, and the rest of its last cluster holds how it goes on."""
    stream.seek(max(entry.size - _TAIL, 0))
    tail = stream.read(_TAIL)
    rest = door.of(entry).behind(entry)[:_LONGEST_WORD]
    if not tail or not rest or tail[-1:] in b"\r\n\0":
        return False
    first = rest.partition(b"\0")[0]
    return len(first) >= min(len(rest), 8) and all(byte >= 0x20 or byte in b"\t\r\n" for byte in first)
