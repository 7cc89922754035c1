"""Reading what a copy says, for looking at it: its text as it is now, of a copy in a case or of any file; its parts; its picture."""

from __future__ import annotations

import hashlib
import io
import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import BrokenExecutor, CancelledError
from contextlib import contextmanager, suppress
from operator import attrgetter
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from rustfern.cases.case_file import StoredCopy
from rustfern.content import open as contents
from rustfern.core.errors import SourceError
from rustfern.core.model import Content, Outlook, State
from rustfern.engine.interface import EngineLost
from rustfern.engine.local import LocalEngine, cores
from rustfern.formats import registry as formats
from rustfern.formats.archives.parts import Part, parts
from rustfern.formats.interface import Limits
from rustfern.formats.text.letters import letters_in
from rustfern.formats.text.plain import encoding_of
from rustfern.formats.text_sink import Enough, Piece, count_words
from rustfern.operations.repair_outlook import mended, outlook
from rustfern.operations.repair_samples import is_recording
from rustfern.sources.registry import Sources

if TYPE_CHECKING:
    from PIL.Image import Image

_LARGE_BYTES, _CHUNK_BYTES = 1 << 20, 1 << 20
_PIECES_AHEAD = 10_000
_FILM_BYTES, _FILM_SECONDS = 24 << 20, 20.0
"""How much of a damaged recording is put together to see what would play, and for how long that may take."""
"""Pieces read ahead of what is shown."""
WHOLE_CHARACTERS = 32 << 20
"""Characters of a text read for comparing."""
_BY_LINES_BYTES, _MOST_LINES_BYTES = 2 << 20, 256 << 20
"""Plain texts from this size on are compared by their lines, up to so many bytes."""


class Preview(msgspec.Struct, frozen=True):
    """The pieces of a text (names of files, for a folder), what is wrong if it vanished or changed since the scan, what reading it told, and
    the parts that it is made of; `content` is None where nothing could be read. Not `to_the_end`: enough was read to show its beginning. `cut`:
    the text goes on behind the last piece. A large plain text has `lines` (UTF-8) instead of pieces where it is to be compared. `outlook` is what repair would give of one that is damaged.
    """

    pieces: tuple[Piece, ...]
    trouble: str | None = None
    content: Content | None = None
    parts: tuple[Part, ...] = ()
    to_the_end: bool = True
    cut: bool = False
    lines: tuple[bytes, ...] = ()
    outlook: Outlook | None = None


def _stream(door: Sources, copy: StoredCopy, bases: Sequence[StoredCopy]) -> BinaryIO:
    entry = contents.stored_entry(door, copy).at_part(copy.facts.part)
    under = [contents.stored_entry(door, base) for base in bases]
    return contents.open_content(door, entry, copy.facts.rebuilt_by or "", under)


def _begin(stream: BinaryIO, name: str, keep: int, size: int, limits: Limits) -> Preview:
    """The beginning of a large file, whose verdict would be waited for."""
    content, kept = formats.first_text(stream, name, keep, limits)
    if content is not None:
        return Preview(tuple(kept), None, content, tuple(parts(stream)))
    stream.seek(0)
    nothing = Content(formats.glance(stream, name), State.UNREADABLE, "not read to its end here", size)
    return Preview(tuple(kept), None, nothing, (), to_the_end=False)


def _by_lines(stream: BinaryIO, name: str, limits: Limits) -> Preview | None:
    """A large plain text as lines, with its verdict; None for what is no such text, or is larger than is compared by lines."""
    from rustfern.formats.format_table import TEXT_FORMATS

    if not _BY_LINES_BYTES <= _size(stream) <= _MOST_LINES_BYTES:
        return None
    stream.seek(0)
    encoding = encoding_of(stream.read(1 << 12))
    stream.seek(0)
    if encoding is None or formats.glance(stream, name).format not in TEXT_FORMATS - {"html", "eml"}:
        return None
    stream.seek(0)
    content = formats.check(stream, name, limits=limits, counted=False)
    stream.seek(0)
    data = stream.read()
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        data = data.decode(encoding if encoding not in ("utf-8", "utf-8-sig") else "cp1252", "replace").encode()
    if b"\r" in data:
        data = data.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    told = msgspec.structs.replace(content, words=count_words(data))
    return Preview((), None, told, lines=tuple(data.split(b"\n")))


def is_unknown(content: Content | None) -> bool:
    """Whether it is of a kind that is not known: only the letters that stand in it can be shown."""
    return content is not None and content.format is None and content.state is State.UNREADABLE


def _is_cut(kept: Sequence[Piece], keep: int) -> bool:
    return sum(map(len, map(attrgetter("text"), kept))) + len(kept) >= keep


def see(door: Sources, copy: StoredCopy, bases: Sequence[StoredCopy], keep: int, *, compared: bool = False) -> Preview:
    """The first `keep` characters of a copy's text as it is now; `bases` are the copies that it is rebuilt on."""
    if copy.facts.members:
        return Preview(tuple(Piece(str(member), "line") for member in copy.facts.members))
    try:
        name = copy.document.name if copy.facts.rebuilt_by else os.path.basename(copy.path)
        with _stream(door, copy, bases) as stream:
            if keep < WHOLE_CHARACTERS and _size(stream) > _LARGE_BYTES and _sum(stream) == copy.facts.sha256:
                return _begin(stream, name, keep, copy.facts.size, door.limits)
            seen = _by_lines(stream, name, door.limits) if compared else None
            if seen is None:
                content, kept = formats.read_text(stream, name, keep, door.limits, hashed=not compared)
                seen = Preview(tuple(kept), None, content, cut=_is_cut(kept, keep))
                if not compared:
                    entry = contents.stored_entry(door, copy)
                    left = outlook(stream, name, content, door, entry=entry)
                    seen = msgspec.structs.replace(seen, parts=tuple(parts(stream)), outlook=left)
    except SourceError as error:
        return Preview((), f"{error}. It was there at the scan: scan again, and look at the other copies")
    changed = seen.content is not None and seen.content.sha256 != copy.facts.sha256
    return msgspec.structs.replace(seen, trouble="this copy changed since the scan: scan again" if changed else None)


def see_file(door: Sources, path: str, keep: int, *, compared: bool = False) -> Preview:
    """The first `keep` characters of any file. Raises `SourceError` if it cannot be opened."""
    with _file(door, path) as stream:
        if keep < WHOLE_CHARACTERS and (size := _size(stream)) > _LARGE_BYTES:
            return _begin(stream, os.path.basename(path), keep, size, door.limits)
        if compared and (seen := _by_lines(stream, os.path.basename(path), door.limits)):
            return seen
        content, kept = formats.read_text(stream, os.path.basename(path), keep, door.limits, hashed=not compared)
        if keep >= WHOLE_CHARACTERS and not kept and is_unknown(content):
            kept = letters_in(stream, keep)
        seen = Preview(tuple(kept), None, content, cut=_is_cut(kept, keep))
        if compared:
            return seen
        whole = os.path.abspath(path)
        left = outlook(stream, os.path.basename(path), content, door, entry=door.around(whole).entry(whole))
        return msgspec.structs.replace(seen, parts=tuple(parts(stream)), outlook=left)


class _Asked(msgspec.Struct, frozen=True):
    """What another process is to read, as `see` and `see_file` do where two are compared."""

    door: Sources
    path: str
    copy: StoredCopy | None
    bases: Sequence[StoredCopy]
    keep: int

    def preview(self) -> Preview:
        """What is read. Raises `SourceError`."""
        if self.copy is not None:
            return see(self.door, self.copy, self.bases, self.keep, compared=True)
        return see_file(self.door, self.path, self.keep, compared=True)


@contextmanager
def seen_meanwhile(
    door: Sources, path: str, copy: StoredCopy | None, bases: Sequence[StoredCopy], keep: int
) -> Iterator[Callable[[], Preview]]:
    """Have a copy of the case, or the file `path`, read for comparing by another core while the other one is read here; what this gives is what was
    read. Nothing is read there that is small, a plain text, or does not lie in a folder of this machine. What is given raises `SourceError`.
    """
    asked = _Asked(door, path, copy, bases, keep)
    if not _is_worth_it(door, copy.path if copy is not None else os.path.abspath(path)):
        yield asked.preview
        return
    try:
        engine = LocalEngine(1)
    except OSError:
        yield asked.preview
        return

    def told() -> Preview:
        try:
            return msgspec.msgpack.decode(waits.result(), type=Preview)
        except (BrokenExecutor, CancelledError, SourceError, OSError, ValueError):
            return asked.preview()  # what is wrong is told here

    with engine:
        try:
            waits = engine.submit(_encoded, asked)
        except EngineLost:
            yield asked.preview
            return
        yield told


def _is_worth_it(door: Sources, path: str) -> bool:
    from rustfern.formats.format_table import TEXT_FORMATS, extension_of, format_of_extension

    kind = format_of_extension(extension_of(path))
    if kind is None or kind in TEXT_FORMATS or cores() < 2 or door.gentle.is_on:
        return False
    with suppress(SourceError):
        source = door.around(path)
        return door.may_be_written(source.root) and source.entry(path).size >= _LARGE_BYTES
    return False


def _encoded(asked: _Asked) -> bytes:
    return msgspec.msgpack.encode(asked.preview())


def text(door: Sources, copy: StoredCopy | None, bases: Sequence[StoredCopy], path: str) -> Iterator[Piece | Content]:
    """All pieces of a text, of a copy of the case or of the file `path`, while it is still read; the verdict comes last. Raises `SourceError`."""
    from queue import Queue
    from threading import Event, Thread

    found: Queue[Piece | Content | BaseException | None] = Queue(_PIECES_AHEAD)
    over = Event()

    count = 0

    def put(piece: Piece) -> None:
        nonlocal count
        if over.is_set():
            raise Enough
        count += 1
        found.put(piece)

    def read() -> None:
        name = copy.document.name if copy and copy.facts.rebuilt_by else os.path.basename(copy.path if copy else path)
        try:
            with _stream(door, copy, bases) if copy else _file(door, path) as stream:
                content = formats.all_text(stream, name, put, door.limits)
                if copy is None and not count and is_unknown(content):
                    for piece in letters_in(stream, WHOLE_CHARACTERS):
                        put(piece)
                found.put(content)
        except Exception as error:
            found.put(error)

    reader = Thread(target=read, daemon=True)
    reader.start()
    try:
        while (item := found.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item
            if isinstance(item, Content):
                return
    finally:
        over.set()
        while reader.is_alive():
            while not found.empty():
                found.get_nowait()
            reader.join(0.01)


def _size(stream: BinaryIO) -> int:
    return stream.seek(0, os.SEEK_END)


def _sum(stream: BinaryIO) -> str:
    stream.seek(0)
    sums = hashlib.sha256()
    while chunk := stream.read(_CHUNK_BYTES):
        sums.update(chunk)
    return sums.hexdigest()


def _file(door: Sources, path: str) -> BinaryIO:
    whole = os.path.abspath(path)
    return contents.open_content(door, door.around(whole).entry(whole))


def picture(door: Sources, copy: StoredCopy | None, bases: Sequence[StoredCopy], path: str) -> tuple[Image, str] | None:
    """The picture of a copy of the case, or of the file `path`, and the part that it is from (empty: it is the file itself)."""
    from rustfern.formats.images.preview import picture as find

    if copy is not None and copy.facts.members:
        return None
    try:
        with _stream(door, copy, bases) if copy else _file(door, path) as stream:
            return find(stream) or _of_damaged_film(door, copy, path, stream)
    except SourceError:
        return None


def _of_damaged_film(door: Sources, copy: StoredCopy | None, path: str, stream: BinaryIO) -> tuple[Image, str] | None:
    """A picture of a damaged recording, from what repair would make of it."""
    from rustfern.formats.images.preview import picture as find
    from rustfern.formats.media.frame import can_show

    made = _mended_film(door, copy, path, stream) if can_show() else None
    return find(io.BytesIO(made.data)) if made is not None else None


class _Film(msgspec.Struct, frozen=True):
    """What repair would make of a damaged recording, or of its beginning: which share of all of it that is."""

    data: bytes
    content: Content
    share: float


_films: dict[tuple[str, str, int], _Film | None] = {}
"""What was made last: both its length and a picture are asked for."""


def _mended_film(door: Sources, copy: StoredCopy | None, path: str, stream: BinaryIO) -> _Film | None:
    """What repair would make of a damaged recording; of a large one, of its beginning. None for what is none, or is not damaged."""
    name, size = os.path.basename(copy.path if copy is not None else path), _size(stream)
    key = str(copy.id if copy is not None else ""), os.path.abspath(path), size
    if not is_recording(name, None):
        return None
    if key not in _films:
        _films.clear()
        stream.seek(0)
        part = stream if size <= _FILM_BYTES else io.BytesIO(stream.read(_FILM_BYTES))
        content = formats.check(part, name, limits=door.limits, digest=False, counted=False)
        entry = contents.stored_entry(door, copy) if copy is not None else door.around(key[1]).entry(key[1])
        made = mended(part, name, content, door, _FILM_SECONDS, entry)
        _films[key] = None if made is None else _Film(made[0], made[1], min(_FILM_BYTES / max(size, 1), 1.0))
    return _films[key]


def recording(
    door: Sources, copy: StoredCopy | None, bases: Sequence[StoredCopy], path: str, content: Content | None
) -> tuple[float | None, list[str]]:
    """(seconds, tracks) of a recording of the case, or of the file `path`, of a damaged one of what plays once it is repaired; nothing for what is none."""
    from rustfern.formats.format_table import class_of
    from rustfern.formats.media.details import facts

    if content is None or class_of(content.format) not in ("audio", "video"):
        return None, []
    try:
        with _stream(door, copy, bases) if copy else _file(door, path) as stream:
            if content.state is not State.DAMAGED:
                return facts(stream, content.format, content.amounts)
            film = _mended_film(door, copy, path, stream)
            if film is None:
                return None, facts(stream, content.format, content.amounts)[1]
            seconds, tracks = facts(io.BytesIO(film.data), film.content.format, film.content.amounts)
            return seconds / film.share if seconds is not None else None, tracks
    except SourceError:
        return None, []
