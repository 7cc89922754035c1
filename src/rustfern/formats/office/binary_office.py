"""Office documents in compound files: binary texts, workbooks, presentations, and encrypted OOXML wrappers.

Source: [MS-CFB]; [MS-OFFCRYPTO] 2.3 (EncryptedPackage); the main streams by [MS-DOC], [MS-XLS] and [MS-PPT].
"""

from __future__ import annotations

from typing import BinaryIO

from msgspec.structs import replace

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.formats.holes import lost_sector
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.office import art_pictures, compound_others, doc, doc_before_97, opc, ppt, xls
from rustfern.formats.office.compound_file import SIGNATURE, Compound, summary
from rustfern.formats.text_sink import TextSink

# Main stream → format, in the order in which they are looked for.
_MAIN = (
    ("EncryptedPackage", "cfb"),
    ("WordDocument", "doc"),
    ("Workbook", "xls"),
    ("Book", "xls"),
    ("PP97_DUALSTORAGE/PowerPoint Document", "ppt"),  # beside one for the version of 1995
    ("PowerPoint Document", "ppt"),
    ("PP40", "ppt"),
    ("VisioDocument", "vsd"),
    ("Quill", "pub"),
    ("__properties_version1.0", "msg"),
)


def _format(compound: Compound) -> tuple[str, str | None]:
    for stream, format_name in _MAIN:
        if compound.has(stream):
            return format_name, stream
    return "cfb", None


_UNBROKEN = {"ppt": ("Pictures",), "xls": ("Workbook", "Book")}
"""Streams in which no part lies fallow or is plain zeros."""


class OfficeBinary:
    """Compound files of the office family."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.95 if head[:8] == SIGNATURE else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        compound = Compound(stream, size)
        return summary(compound, _format(compound)[0])

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        compound = Compound(stream, size)
        format_name, main = _format(compound)
        glance = summary(compound, format_name)
        amounts: dict[str, int] = {}
        if main == "EncryptedPackage":
            # What is inside cannot be seen: its name is believed, if it is one of what is packed so.
            claimed = format_of_extension(extension_of(name))
            glance = replace(glance, format=claimed if claimed in opc.PACKAGES else format_name)
            return Reading(glance, State.ENCRYPTED, "protected by a password; its text cannot be read", has_text=False)
        if main is None:
            if not any(compound.size(path) for path in compound.paths):
                raise Malformed("a compound file without any document in it")
            return Reading(
                glance,
                State.UNREADABLE,
                "a compound file whose chains are whole, of a kind that is not known",
                has_text=False,
            )
        data = compound.read(main) or b"" if format_name != "ppt" else b""
        protected = untold = False
        if (main == "WordDocument" and int.from_bytes(data[:2], "little") in doc_before_97.IDENTS) or main == "Book":
            glance = replace(
                glance, needs="written by a version before 1997: newer programs block such files until that is allowed"
            )
        if format_name == "doc":
            protected = doc.read(compound, data, sink, amounts)
        elif format_name == "xls":
            told = xls.read(data, sink, amounts)
            protected, untold = told == "encrypted", told == "untold"
        elif format_name == "ppt":
            if main == "PP40":
                raise Refused("a presentation of 1995 or before: reading it was refused")
            protected = ppt.read(
                compound, compound.data(main), sink, amounts, main.rpartition("PowerPoint Document")[0]
            )
        elif format_name == "msg":
            title, author = compound_others.message(compound, sink, amounts)
            glance = replace(glance, title=title, author=author)
        else:
            compound_others.diagram(data) if format_name == "vsd" else compound_others.layout(compound)
            reason = (
                f"read to the end: {len(compound.paths)} streams, chains right; what is drawn in them is not published"
            )
            return Reading(glance, State.INTACT, reason, has_text=False)
        if protected:
            return Reading(glance, State.ENCRYPTED, "protected by a password; its text cannot be read", has_text=False)
        for part in _UNBROKEN.get(format_name or "", ()):
            path = f"{main.rpartition('/')[0]}/{part}".lstrip("/")
            if (hole := lost_sector(data if path == main else compound.data(path))) is not None:
                raise Malformed(f"zeros of whole sectors in the stream {part}", hole)
        if format_name == "doc":
            art_pictures.check_inline(compound.data("Data"))
        elif format_name == "ppt":
            art_pictures.check_stored(compound.data(main.replace("PowerPoint Document", "Pictures")))
        reason = f"read to the end: {len(compound.paths)} streams, chains and the main stream right"
        if untold:
            reason += "; its cells are too many for their words to be compared"
        return Reading(glance, State.INTACT, reason, amounts, has_text=not untold)
