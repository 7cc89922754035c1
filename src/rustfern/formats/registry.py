"""Document formats: identified by content, glanced at, checked to the end. One module a family, one interface."""

from __future__ import annotations

import errno
import importlib
import io
import os
import re
import sys
from collections.abc import Callable
from functools import cache
from operator import attrgetter
from typing import BinaryIO, NamedTuple

from msgspec.structs import replace

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Content, Glance, State
from rustfern.formats.format_table import FORMATS, TEXT_FORMATS, class_of, extension_of, format_of_extension
from rustfern.formats.interface import DEFAULT_LIMITS, Format, Limits, Reading
from rustfern.formats.text_sink import Enough, Piece, TextSink

__all__ = ["check", "glance", "identify", "is_blank", "prepare", "read_text"]

UNKNOWN = "of a format that is not known"
"""The reason that is given for a file of which nothing else can be said."""
_HEAD = 4096
_IN_MEMORY = 32 << 20
_CHUNK = 1 << 20
_CERTAIN = 0.9
_HOLE = 256 << 20
_EXTENTS = 100_000
_BLOCK = 4096
_TAIL, _ZEROS = 1 << 16, 512


_PIECE_OF_ARCHIVE = re.compile(r"\.(?:zip|7z|rar|tar)\.\d{3}$|\.z\d\d$|\.r\d\d$", re.IGNORECASE)


class Family(NamedTuple):
    """One family of formats: its class (`module.Class` below `rustfern.formats`), and whether the first and last bytes allow for it, told
    without importing it: most of the start-up time is theirs. `is_guess`: told by what text looks like, not by a signature.
    """

    place: str
    may_be: Callable[[bytes, bytes], bool]
    is_guess: bool = False
    is_package: bool = False


def _in_package(head: bytes, tail: bytes) -> bool:
    return head[:4] == b"PK\x03\x04"


FAMILIES = (
    Family("office.odf.Odf", _in_package, is_package=True),
    Family("office.ooxml.Ooxml", _in_package, is_package=True),
    Family(
        "archives.zip_bundles.PlainZip", lambda head, tail: head[:2] == b"PK" or b"PK\x05\x06" in tail, is_package=True
    ),
    Family("office.binary_office.OfficeBinary", lambda head, tail: head[:4] == b"\xd0\xcf\x11\xe0"),
    Family(
        "office.before_compound.BeforeCompound",
        lambda head, tail: head[:1] in b"\x09\xdb\x9b\x31\x32\xfe\xed\x0b" and head[:1] != b"",
    ),
    Family(
        "archives.compressed.Unmarked",
        lambda head, tail: head[:1] == b"]" or (head[148:149] in b" 0123456789" and len(head) >= 512),
    ),
    Family("office.odf.FlatOdf", lambda head, tail: b"<?xml" in head[:64], is_guess=True),
    Family("text.xml_documents.Markup", lambda head, tail: head[:2] == b"\x1f\x8b" or head[:1] == b"<", is_guess=True),
    Family("databases.sqlite.Database", lambda head, tail: head[:6] == b"SQLite"),
    Family("drawings.cdr.RiffDrawing", lambda head, tail: head[:3] == b"RIF"),
    Family("recognised.SignatureOnly", lambda head, tail: True),
    Family(
        "text.mail.Mail", lambda head, tail: b":" in head.partition(b"\n")[0] or head[:5] == b"From ", is_guess=True
    ),
    Family("text.plain.PlainText", lambda head, tail: True, is_guess=True),
)
"""Every family, the most telling first."""


_OF_COPIES = frozenset(
    {
        "tmp",
        "temp",
        "bak",
        "old",
        "chk",
        "rec",
        "sav",
        "save",
        "orig",
        "copy",
        "new",
        "part",
        "asv",
        "autosave",
        "swp",
        "draft",
    }
)
"""Endings that copies of documents get: what is in them may well be a text that was cut."""
_OF_OTHERS = (
    *(b"\xcf\x9aW\x13", b"\xce\x9aW\x13", b"\x13W\x9a\xce", b"\x13W\x9a\xcf"),  # GNU dbm, gdbm.h
    *(b"\x1a\x01", b"\x1e\x02"),  # compiled terminal descriptions, term(5)
)
"""What begins files that other programs keep under endings of documents."""
_SHARED_ENDINGS = frozenset(
    {
        "gsb",
        "dat",
        "mat",
        "sav",
        "dif",
        "pub",
        "key",
        "max",
        "mus",
        "pcb",
        "brd",
        "sch",
        "lay",
        "mod",
        "db",
        "cut",
        "gpx",
        "ts",
        "dcm",
        "log",
        "md",
        "tab",
        "cls",
        "cfg",
        "note",
        "mm",
        "pcd",
        "prj",
        "scn",
        "map",
    }
)
"""Endings of which several programs are owners."""


@cache
def _family(place: str) -> Format:
    module, _, name = place.rpartition(".")
    made: Format = getattr(importlib.import_module(f"rustfern.formats.{module}"), name)()
    return made


def prepare(name: str) -> None:
    """Load the readers that a file of this name is likely to need, before work is parted among processes."""
    if class_of(format_of_extension(extension_of(name))) in ("text", "sheet", "slides", "drawing"):
        for family in FAMILIES[:3]:
            _family(family.place)


def _ends(stream: BinaryIO) -> tuple[bytes, bytes, int]:
    size = stream.seek(0, io.SEEK_END)
    stream.seek(0)
    head = stream.read(_HEAD)
    stream.seek(max(0, size - _HEAD))
    return head, stream.read(_HEAD), size


def _family_of(head: bytes, tail: bytes) -> Family | None:
    best, known = 0.0, None
    for each in FAMILIES:
        if not each.may_be(head, tail):
            continue
        score = _family(each.place).score(head, tail)
        if score >= _CERTAIN:
            return each
        if score > best:
            best, known = score, each
    return known


def identify(head: bytes, tail: bytes = b"") -> Format | None:
    """The family that the first and last bytes show, None if no family knows them."""
    found = _family_of(head, tail)
    return _family(found.place) if found else None


def glance(stream: BinaryIO, name: str) -> Glance:
    """Format, identity and times from a few KB of a seekable stream. Never raises `Malformed`: less is known then."""
    head, tail, size = _ends(stream)
    family = identify(head, tail)
    if family is None or size == 0:
        return Glance()
    stream.seek(0)
    try:
        return family.glance(stream, size, name)
    except Malformed:
        return Glance(format=_likely(head, name))


def _likely(head: bytes, name: str) -> str | None:
    """The format of damaged bytes, as far as it shows."""
    claimed = format_of_extension(extension_of(name))
    if head[:2] == b"PK":
        if b"vnd.oasis.opendocument." in head[:200]:
            kind = head[head.find(b"vnd.oasis.opendocument.") + 23 :][:14]
            table = {b"text": "odt", b"spreadsheet": "ods", b"presentation": "odp", b"graphics": "odg"}
            return next((name for start, name in table.items() if kind.startswith(start)), claimed)
        return claimed
    return claimed


def is_blank(stream: BinaryIO) -> str | None:
    """`0x00` or `0xFF` if the stream holds nothing else."""
    stream.seek(0)
    first = stream.read(1)
    if first not in (b"\0", b"\xff"):
        return None
    stream.seek(0)
    while chunk := stream.read(_CHUNK):
        if chunk.count(first) != len(chunk):
            return None
    return f"0x{first[0]:02X}"


def _written(stream: BinaryIO, size: int) -> int:
    """Up to which byte anything of a file was ever written; behind it is a hole, which reads as zeros. `size` where nobody knows."""
    if sys.platform == "win32" or not hasattr(os, "SEEK_DATA"):
        return size
    try:
        handle = stream.fileno()
        here = os.lseek(handle, 0, os.SEEK_CUR)
    except (OSError, AttributeError):
        return size
    end = 0
    try:
        for _ in range(_EXTENTS):
            start = os.lseek(handle, end, os.SEEK_DATA)
            end = os.lseek(handle, start, os.SEEK_HOLE)
            if end >= size:
                return size
    except OSError as error:
        return end if error.errno == errno.ENXIO else size
    finally:
        os.lseek(handle, here, os.SEEK_SET)
    return size


def check(
    stream: BinaryIO, name: str, *, limits: Limits = DEFAULT_LIMITS, digest: bool = True, counted: bool = True
) -> Content:
    """Read a seekable binary stream to its end and give the verdict with its reason.

    `name` helps where bytes alone do not tell (text formats). Without `digest`, neither the file's SHA-256 nor hashes of its words are taken; nor of a file whose end
    is a hole of hundreds of megabytes. Not `counted`: its words are not even counted, as where only the verdict is asked for.
    """
    return _check(stream, name, TextSink(hashed=digest, counted=counted), limits, digest=digest)


def first_text(stream: BinaryIO, name: str, keep: int, limits: Limits) -> tuple[Content | None, list[Piece]]:
    """The first `keep` characters of the text, read no further than that: then there is no verdict (None)."""
    sink = TextSink(keep, hashed=False, stops=True)
    try:
        content: Content | None = _check(stream, name, sink, limits, digest=False)
    except Enough:
        content = None
    return content, in_order(sink)


def all_text(stream: BinaryIO, name: str, put: Callable[[Piece], None], limits: Limits) -> Content | None:
    """Hand on all pieces of a text while it is read; `put` may raise `Enough`. Gives the verdict, None if it was stopped."""
    try:
        return _check(stream, name, TextSink(1, hashed=False, put=put), limits, digest=False)
    except Enough:
        return None


def read_text(
    stream: BinaryIO, name: str, keep: int, limits: Limits, *, hashed: bool = True
) -> tuple[Content, list[Piece]]:
    """The verdict together with the first `keep` characters of the text, by paragraphs, cells or lines; `hashed` as for `TextSink`."""
    sink = TextSink(keep, hashed=hashed)
    return _check(stream, name, sink, limits), in_order(sink)


def in_order(sink: TextSink) -> list[Piece]:
    """What was kept of a text, in the order in which the document shows it."""
    if not sink.order or len(set(map(attrgetter("section"), sink.kept))) < 2:
        return sink.kept
    return sorted(sink.kept, key=lambda piece: sink.order.get(piece.section, -1))


def _check(stream: BinaryIO, name: str, sink: TextSink, limits: Limits, *, digest: bool = True) -> Content:
    size = stream.seek(0, io.SEEK_END)
    stream.seek(0)
    sha256: str | None = None
    if digest:
        import hashlib
    reading: Reading | None = None
    if size >= _BLOCK and not _written(stream, size):
        reading = _before_hole(stream, 0, size, name, sink, limits)
    elif size <= _IN_MEMORY:
        data = stream.read()
        size = len(data)
        sha256 = hashlib.sha256(data).hexdigest() if digest else None
        stream = io.BytesIO(data)
    elif size - (written := _written(stream, size)) >= _HOLE:
        # Reading gigabytes of what was never written would tell nothing more.
        reading = _before_hole(stream, written, size, name, sink, limits)
    elif digest:
        sums = hashlib.sha256()
        while chunk := stream.read(_CHUNK):
            sums.update(chunk)
        sha256 = sums.hexdigest()
    reading = reading or _verdict(stream, size, name, sink, limits)
    info = FORMATS.get(reading.glance.format or "")
    if digest and isinstance(stream, io.BytesIO) and info is not None and info.carries:
        from rustfern.formats.identity import of_exif, of_xmp

        data = stream.getvalue()
        exif = of_exif(data) if "exif" in info.carries else ()
        carried = (*reading.glance.identity, *exif, *of_xmp(data))
        reading = replace(reading, glance=replace(reading.glance, identity=carried))
    pixel_hash = None
    if digest and isinstance(stream, io.BytesIO) and reading.state is State.INTACT and info is not None and info.pixels:
        from rustfern.formats.images.raster import pixels

        pixel_hash = pixels(stream.getvalue(), info.pixels)
    has_text = reading.has_text and (reading.state is not State.DAMAGED or sink.words > 0)
    return Content(
        glance=reading.glance,
        state=reading.state,
        reason=reading.reason,
        size=size,
        sha256=sha256,
        words=sink.words if has_text and sink.counted else None,
        text_hash=sink.text_hash() if has_text else None,
        tokens=sink.tokens(),
        lines=sink.lines(),
        pixel_hash=pixel_hash,
        amounts=dict(reading.amounts) | ({"words": sink.words} if has_text and sink.counted else {}),
    )


def _before_hole(stream: BinaryIO, written: int, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """The verdict on a file most of whose end was never written."""
    if not written:
        said = f"nothing of its {size} bytes was ever written here: an online-only placeholder, or a copy that did not happen"
        return Reading(Glance(), State.DAMAGED, said, has_text=False)
    from rustfern.formats.paged_bytes import Part

    found = _verdict(Part(stream, written), written, name, sink, limits)
    said = f"{found.reason}; the {size - written} bytes behind byte {written} were never written"
    stream.seek(0)
    if found.state is State.INTACT and stream.read(2) == b"PK":
        # Readers look for the end record in the last 64 KB.
        return replace(found, state=State.DAMAGED, reason=f"{said}: programs do not find the end of the archive")
    return replace(found, reason=said)


def _verdict(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    reading = _by_format(stream, size, name, sink, limits)
    if (
        _PIECE_OF_ARCHIVE.search(name)
        and (reading.state is State.DAMAGED or reading.reason.startswith(UNKNOWN))
        and size
        and not is_blank(stream)
    ):
        said = "a part of an archive that was cut into several files: put the others beside it"
        return replace(reading, state=State.UNREADABLE, reason=said)
    if reading.state is State.DAMAGED and (cause := _cause(stream, size, reading.glance.format)):
        return replace(reading, reason=f"{reading.reason}; {cause}")
    return reading


def _cause(stream: BinaryIO, size: int, kind: str | None) -> str | None:
    """What the bytes of a damaged file show of how it happened."""
    stream.seek(max(size - _TAIL, 0))
    tail = stream.read(_TAIL)
    zeros = len(tail) - len(tail.rstrip(b"\0"))
    if _ZEROS <= zeros < size:
        more = "at least " if zeros == _TAIL else ""
        return f"{more}its last {zeros} bytes are zeros, as a power cut leaves them"
    stream.seek(0)
    head = stream.read(_CHUNK)
    ends = head.count(b"\n")
    text_mode = "it was sent as text, which changes the bytes of such files: fetch it again as binary"
    # The texts in a tape archive may have such line ends of their own.
    if b"\0" in head and kind != "tar" and ends >= 8 and ends > len(head) // 512 and ends == head.count(b"\r\n"):
        return text_mode
    return text_mode if head[:7] in (b"\x89PNG\n\x1a\n", b"\x89PNG\r\r\n"[:7]) else None


def _by_format(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    claimed = format_of_extension(extension_of(name))
    if size == 0:
        from rustfern.formats.text.plain import refine

        if refine(name) in TEXT_FORMATS and claimed in TEXT_FORMATS:
            return Reading(Glance(format=claimed), State.EMPTY, "zero bytes: an empty text")
        if claimed == "mbox":
            return Reading(Glance(format=claimed), State.EMPTY, "zero bytes: no message is in it")
        is_mark = name.startswith(".") and "." not in name[1:]  # as `.keep` and `.nomedia` are
        if is_mark or (claimed is None and extension_of(name) and extension_of(name) not in _OF_COPIES):
            return Reading(Glance(), State.EMPTY, "zero bytes", has_text=False)
        return Reading(Glance(), State.DAMAGED, "zero bytes", has_text=False)
    if blank := is_blank(stream):
        return Reading(
            Glance(), State.DAMAGED, f"only {blank} bytes, all {size} of them: the content is gone", has_text=False
        )
    head, tail, _ = _ends(stream)
    if claimed is not None and (head.startswith(_OF_OTHERS) or _is_icon(head)):
        said = f"not of the kind of {claimed} that is known, but what another program keeps: open it there"
        return Reading(Glance(), State.UNREADABLE, said, has_text=False)
    family = _family_of(head, tail)
    if family is None:
        nothing = not head.strip(b"\0")
        if claimed is not None and not nothing and extension_of(name) in _SHARED_ENDINGS:
            said = f"not of the kind of {claimed} that is known: other programs use this ending too"
            return Reading(Glance(), State.UNREADABLE, said, has_text=False)
        if claimed in TEXT_FORMATS and not nothing and _has_letters_alone(head):
            said = "a text in an encoding that is not known here: open a restored copy to see"
            return Reading(Glance(format=claimed), State.UNREADABLE, said, has_text=False)
        if nothing or claimed is not None:
            what = "starts with zeros" if nothing else f"the bytes are not those of {claimed}"
            return Reading(Glance(), State.DAMAGED, f"{what} (byte 0)", has_text=False)
        return Reading(Glance(), State.UNREADABLE, UNKNOWN, has_text=False)
    stream.seek(0)
    try:
        reading = _family(family.place).check(stream, size, name, sink, limits)
    except Malformed as error:
        guessed = family.is_guess or (family.is_package and head[:2] != b"PK")
        if claimed is None and extension_of(name) and extension_of(name) not in _OF_COPIES and guessed:
            # Its name is of a kind that is not known, and what its bytes look like was only a guess.
            return Reading(Glance(), State.UNREADABLE, f"{UNKNOWN}; no text: {error}", has_text=False)
        state = State.UNREADABLE if isinstance(error, Refused) else State.DAMAGED
        likely = _likely(head, name)
        if not sink.words and head[:2] == b"PK":
            from rustfern.formats.archives import zip as zips
            from rustfern.formats.office.ooxml import partial_text

            partial_text(zips.salvage(stream, size), sink)
        return Reading(Glance(format=likely), state, str(error))
    if reading.state is State.INTACT and family.is_package:
        from rustfern.formats.archives import zip as zips

        reading = replace(reading, reason=reading.reason + zips.around(stream, size))
    if reading.glance.format == "txt" and claimed and claimed != "txt" and _no_text(head, tail, claimed):
        return Reading(Glance(), State.DAMAGED, f"the bytes are not those of {claimed} (byte 0)", has_text=False)
    if (
        reading.glance.format == "txt"
        and claimed
        and claimed not in TEXT_FORMATS
        and claimed != "rtf"
        and _readable(head)
    ):
        # Text bytes under a binary format's name: the name is wrong, the text itself is whole.
        if class_of(claimed) == "sheet" and is_table(head):
            return replace(reading, glance=Glance(format="csv"))
        return reading if claimed != "svg" else replace(reading, glance=Glance(format="svg"))
    return reading


def _is_icon(head: bytes) -> bool:
    """Whether it is a set of small pictures for a screen: their number, and the first lies right behind their list."""
    count = int.from_bytes(head[4:6], "little")
    first = int.from_bytes(head[18:22], "little")
    return head[:4] in (b"\0\0\1\0", b"\0\0\2\0") and 0 < count <= 64 and not head[9] and first == 6 + 16 * count


def _has_letters_alone(head: bytes) -> bool:
    """Whether bytes hold no control characters but line ends, tabs and what changes the set of letters (ISO 2022): noise and machine code do."""
    return not any(byte < 32 and byte not in b"\t\n\f\r\x0e\x0f\x1a\x1b" for byte in head)


def _readable(head: bytes) -> bool:
    from rustfern.formats.text.plain import encoding_of

    return encoding_of(head) is not None


def is_table(head: bytes) -> bool:
    """Whether text is rows of cells: as many of them in each of its first lines, whatever parts them (RFC 4180)."""
    import csv

    lines = head.decode("utf-8", "replace").splitlines()[:-1][:20]
    for sign in ",;\t":
        try:
            widths = {len(row) for row in csv.reader(lines, delimiter=sign) if row}
        except csv.Error:
            continue
        if len(widths) == 1 and len(lines) > 1 and widths != {1}:
            return True
    return False


def _no_text(head: bytes, tail: bytes, claimed: str) -> bool:
    """Whether bytes that read as text are what is left of a format that has another beginning."""
    from rustfern.formats.text.plain import encoding_of

    if claimed.startswith("fod"):
        return True  # flat ODF is told by its first element
    if claimed in TEXT_FORMATS or class_of(claimed) == "code":
        return False
    # Bytes beyond ASCII that are no UTF-8 are a guess, not a text; and no text holds marks of another format.
    marks = (b"%%EOF", b"endobj", b"endstream", b"PNG", b"JFIF", b"ftyp", b"IDAT")
    return encoding_of(head) not in ("utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be") or any(
        mark in head or mark in tail for mark in marks
    )
