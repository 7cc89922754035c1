"""Office documents of the versions before compound files: workbooks of the second to the fourth version, texts for Windows and DOS; presentations.

Source: [MS-XLS] 2.4.21 (BOF; the older ones by the published layouts of those versions), `doc_before_97`. Texts of other computers, and presentations, are only told.
"""

from __future__ import annotations

from typing import BinaryIO

from rustfern.core.errors import Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.office import doc_before_97, xls
from rustfern.formats.text_sink import TextSink

_WORKBOOKS = (b"\x09\x00\x04\x00", b"\x09\x02\x06\x00", b"\x09\x04\x06\x00")
_BARE = (b"\x09\x08\x08\x00", b"\x09\x08\x10\x00")
"""Workbooks of later versions that programs wrote without the compound file around."""
_TEXTS = (b"\x9b\xa5\x21\x00", b"\xdb\xa5\x2d\x00")
_PAGED = (b"\x31\xbe\x00\x00\x00\xab", b"\x32\xbe\x00\x00\x00\xab")
_ELSEWHERE = (b"\xfe\x32\x00\x00", b"\xfe\x34\x00\x00", b"\xfe\x37\x00\x1c", b"\xfe\x37\x00\x23")
_SLIDES = (b"\xed\xde\xad\x0b", b"\x0b\xad\xde\xed")
_MAX_BYTES = 64 << 20
_SECRET = "protected by a password; its text cannot be read"
_NEEDS = "written by a version before 1995: newer programs block such files until that is allowed"


class BeforeCompound:
    """Workbooks and texts that are no compound files yet."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.9 if head.startswith((*_WORKBOOKS, *_BARE, *_TEXTS, *_PAGED, *_ELSEWHERE, *_SLIDES)) else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        head = stream.read(128)
        if head.startswith(_BARE):
            return Glance(format="xls")
        if head.startswith(_PAGED) and doc_before_97.is_of_windows(head):
            return Glance(format="wri", needs=_NEEDS)
        if head.startswith(_SLIDES):
            return Glance(format="ppt", needs=_NEEDS)
        head = head[:4]
        return Glance(format="xls" if head in _WORKBOOKS else "doc", needs=_NEEDS)

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        glance = self.glance(stream, size, name)
        if size > _MAX_BYTES:
            raise Refused("larger than documents of its version can be: refused")
        if glance.format == "ppt":
            raise Refused("a presentation of 1995 or before: reading it was refused")
        stream.seek(0)
        data = stream.read()
        if data[:4] in _BARE and data[4:6] not in (b"\x00\x05", b"\x00\x06"):
            raise Refused("a workbook that does not name its version: reading it was refused")
        amounts: dict[str, int] = {}
        if data.startswith(_ELSEWHERE):
            raise Refused("a text of a version for other computers: reading it was refused")
        if data.startswith(_PAGED):
            doc_before_97.read_paged(data, sink, amounts)
            return Reading(glance, State.INTACT, "read to the end: its text and the pages behind it are whole", amounts)
        if data.startswith(_TEXTS):
            if doc_before_97.read(data, sink, amounts, alone=True):
                return Reading(glance, State.ENCRYPTED, _SECRET, has_text=False)
            return Reading(glance, State.INTACT, "read to the end: its header and its text are whole", amounts)
        if xls.read(data, sink, amounts) == "encrypted":
            return Reading(glance, State.ENCRYPTED, _SECRET, has_text=False)
        return Reading(glance, State.INTACT, "read to the end: its records are whole", amounts)
