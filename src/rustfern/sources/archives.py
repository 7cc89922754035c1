"""Archives as sources: ZIP, 7z, and tar plain or packed, read in place; what needs random access is unpacked once into private scratch space.

Sources: APPNOTE.TXT 6.3.9 (4.4 central directory, 4.5.5 extended timestamps in its registry), POSIX.1-2017 pax (ustar and extended headers), through
the standard library's readers of both.
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import stat
import struct
import tarfile
import threading
import time
import weakref
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed, SourceError, explain
from rustfern.core.model import Entry, Location
from rustfern.core.times import utc
from rustfern.formats.archives.sevenzip import SevenArchive
from rustfern.formats.interface import Limits
from rustfern.formats.paged_bytes import Part
from rustfern.output.temporary import Scratch
from rustfern.sources.interface import OnProblem
from rustfern.sources.parts import Listed, NothingDeleted, materialised

MAX_MEMBERS = 300_000
MAX_UNPACKED_BYTES = 64 << 30
MAX_RATIO = 400
"""Bytes that one packed byte may stand for in an archive of some size; more is refused as a trap."""
_FREE_BYTES = 64 << 20
_CHUNK_BYTES = 1 << 20
_IN_MEMORY_BYTES = 8 << 20
_MAX_DEPTH = 200
_PACKED: dict[bytes, Callable[[BinaryIO], BinaryIO]] = {
    b"\x1f\x8b": lambda stream: gzip.GzipFile(fileobj=stream),  # type: ignore[dict-item, return-value]
    b"BZh": lambda stream: bz2.BZ2File(stream),  # type: ignore[dict-item, return-value]
    b"\xfd7zXZ\0": lambda stream: lzma.LZMAFile(stream),  # type: ignore[dict-item, return-value]  # noqa: SIM115
}
_ZSTD, _SEVEN = b"\x28\xb5\x2f\xfd", b"7z\xbc\xaf\x27\x1c"
_UNIX_EXTENSION, _FOLDER = 0x8000, 0x10
"""Attributes of a file in a 7z archive: the upper half is a Unix mode; it is a folder."""
_BROKEN = (
    tarfile.TarError,
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    EOFError,
    ValueError,
    struct.error,
    OverflowError,
)


class _Lost(msgspec.Struct, frozen=True):
    """What stands for the place of a file whose bytes cannot be had: why not."""

    why: str


class _Member(msgspec.Struct):
    """One thing in an archive: `place` finds its bytes again (offset in a tar, the name in a ZIP); `target` is that of a link."""

    size: int = 0
    modified: datetime | None = None
    modified_ns: int | None = None
    mode: int = 0o600
    kind: str = "folder"
    target: str | None = None
    place: int | str | _Lost = 0
    names: dict[str, None] = msgspec.field(default_factory=dict)


def looks_like_archive(head: bytes) -> bool:
    """Whether the first bytes (512 of them) are those of an archive that can be searched."""
    packed = any(head.startswith(sign) for sign in _PACKED) or head.startswith(
        (_ZSTD, _SEVEN, b"PK\x03\x04", b"PK\x05\x06")
    )
    return packed or head[257:262] == b"ustar" or _is_old_tar(head)


def _is_old_tar(head: bytes) -> bool:
    """A header of before there was a mark: its sum must fit."""
    if len(head) < 512 or not head[0]:
        return False
    try:
        return tarfile.nti(head[148:156]) in tarfile.calc_chksums(head)  # type: ignore[attr-defined]
    except (ValueError, tarfile.TarError):
        return False


class Archive:
    """An open archive: the index of what is in it, and its bytes. Shared by all sources that lie in it; closed with the last of them."""

    def __init__(self, stream: BinaryIO, path: str, stamp: tuple[int, int], scratch: Scratch) -> None:
        """`stamp` are time (ns) and size of the file on disk: whether it changed since. Raises `SourceError` for what is no archive, is encrypted, or asks for too much. What is damaged is read as far as it goes:
        `trouble` says so.
        """
        self.path, self.stamp, self.trouble, self.scratch = path, stamp, "", scratch
        self._open = ExitStack()
        self._lock = threading.Lock()
        self._stream = self._open.enter_context(stream)
        self._zip: zipfile.ZipFile | None = None
        self._scratch: Path | None = None
        self.members: dict[str, _Member] = {"": _Member()}
        self._lost: dict[int, str] = {}
        self._count = 0
        weakref.finalize(self, self._open.close)
        try:
            self._read_index()
        except OSError as error:
            raise SourceError(f"this archive cannot be read ({explain(error)})", path) from error

    # --- the index ------------------------------------------------------------------------------------------------

    def _read_index(self) -> None:
        head = self._stream.read(512)
        size = self._stream.seek(0, io.SEEK_END)
        self._stream.seek(0)
        if head.startswith((b"PK\x03\x04", b"PK\x05\x06")):
            self._index_zip(size)
        elif head.startswith(_SEVEN):
            self._index_seven(size)
        else:
            unpack = next((opened for sign, opened in _PACKED.items() if head.startswith(sign)), None)
            if head.startswith(_ZSTD):
                unpack = _zstd(self.path)
            if unpack is not None:
                self._stream = self._spool(unpack(self._stream), size)
            self._index_tar()

    def _spool(self, unpacked: BinaryIO, packed: int) -> BinaryIO:
        """A packed stream, unpacked into private scratch space once: as far as it goes, and within bounds."""
        done = 0

        def pieces() -> Iterator[bytes]:
            nonlocal done
            try:
                while chunk := unpacked.read(_CHUNK_BYTES):
                    done += len(chunk)
                    if done > MAX_UNPACKED_BYTES or (done > _FREE_BYTES and done > MAX_RATIO * packed):
                        raise SourceError(
                            f"this archive would unpack to more than {done} bytes: refused",
                            self.path,
                            "Look at it before you unpack it",
                        )
                    yield chunk
            except _BROKEN as error:
                broken(error)
            except OSError as error:
                # The readers of packed streams tell of damage so too.
                if error.errno is not None:
                    raise
                broken(error)

        def broken(error: Exception) -> None:
            self.trouble = f"this archive is damaged after {done} unpacked bytes ({error}); what stands before was read"

        return self._held(pieces())

    def _held(self, pieces: Iterator[bytes]) -> BinaryIO:
        """Bytes in private scratch space, as long as there is room. Raises `SourceError`."""
        import shutil

        folder = self._open.enter_context(self.scratch.private_folder())
        held = self._open.enter_context((folder / "unpacked").open("w+b"))
        for piece in pieces:
            if shutil.disk_usage(folder).free < _FREE_BYTES:
                raise SourceError(
                    "there is no room to unpack this archive",
                    str(folder.parent),
                    "Free space there, or set TMPDIR to a folder elsewhere",
                )
            held.write(piece)
        held.flush()
        held.seek(0)
        return held

    def _index_tar(self) -> None:
        try:
            archive = tarfile.open(fileobj=self._stream, mode="r:", encoding="utf-8", errors="surrogateescape")  # noqa: SIM115
        except _BROKEN as error:
            if self.trouble:
                return
            raise SourceError(
                f"this is no archive that can be searched ({error})",
                self.path,
                "Name a folder, an archive or an attached disk",
            ) from error
        try:
            for info in archive:
                archive.members = []  # type: ignore[attr-defined]
                kind = (
                    "folder"
                    if info.isdir()
                    else "link"
                    if info.issym()
                    else "file"
                    if info.isreg()
                    else "hard"
                    if info.islnk()
                    else "other"
                )
                stamp = round(info.mtime * 1_000_000_000) if abs(info.mtime) < 1e11 else None
                made = _Member(
                    info.size,
                    utc(info.mtime),
                    stamp,
                    info.mode & 0o777,
                    kind,
                    info.linkname if kind in ("link", "hard") else None,
                    info.offset_data,
                )
                if info.issparse():
                    made.kind = "other"
                    self._note(f"{info.name} is kept in a sparse form that was not read")
                self._add(info.name, made)
            end = self._stream.seek(0, io.SEEK_END)
            if not self.trouble and archive.offset > end:
                self._note("it stops in the middle of a file")
            self._stream.seek(min(archive.offset, end))
            if self._stream.read(tarfile.BLOCKSIZE).strip(b"\0"):
                # The library takes a damaged header for the end.
                self._note(f"it is damaged at byte {archive.offset}; what stands before was read")
        except _BROKEN as error:
            self._note(f"it is damaged ({error}); what stands before was read")
        self._link_hard()

    def _note(self, what: str) -> None:
        self.trouble = self.trouble or f"this archive: {what}"

    def _link_hard(self) -> None:
        """A second name of a file is that file."""
        for name, member in self.members.items():
            if member.kind == "hard":
                other = self.members.get(_inner(member.target or "") or name)
                if other is not None and other.kind == "file":
                    self.members[name] = _Member(
                        other.size, other.modified, other.modified_ns, other.mode, "file", None, other.place
                    )
                else:
                    member.kind, member.target = "other", None

    def _index_zip(self, size: int) -> None:
        try:
            self._zip = self._open.enter_context(zipfile.ZipFile(_Counted(self._stream, size), "r"))
        except _BROKEN as error:
            raise SourceError(
                f"this archive cannot be read ({error})",
                self.path,
                "Name a folder, another archive or an attached disk",
            ) from error
        total = 0
        for info in self._zip.infolist():
            total += info.file_size
            mode = info.external_attr >> 16
            kind = (
                "folder"
                if info.is_dir()
                else "link"
                if stat.S_ISLNK(mode)
                else "file"
                if stat.S_IFMT(mode) in (0, stat.S_IFREG)
                else "other"
            )
            modified = _zip_time(info)
            target = None
            if kind == "link":
                with suppress(*_BROKEN, RuntimeError, NotImplementedError):
                    target = os.fsdecode(self._zip.read(info)[:4096]) if info.file_size <= 4096 else None
            stamp = None if modified is None else round(modified.timestamp()) * 1_000_000_000
            self._add(
                _zip_name(info),
                _Member(info.file_size, modified, stamp, mode & 0o777 or 0o600, kind, target, info.filename),
            )
        if total > MAX_UNPACKED_BYTES or (total > _FREE_BYTES and total > MAX_RATIO * size):
            raise SourceError(
                f"this archive would unpack to {total} bytes: refused", self.path, "Look at it before you unpack it"
            )

    def _index_seven(self, size: int) -> None:
        """The list of a 7z archive; its runs are unpacked into scratch space once, one behind the other, as far as they go."""
        limits = Limits(unpacked=MAX_UNPACKED_BYTES, members=MAX_MEMBERS, ratio=MAX_RATIO, large=_FREE_BYTES)
        try:
            archive = SevenArchive(self._stream, size, limits)
        except Malformed as error:
            raise SourceError(
                f"this archive cannot be read ({error})", self.path, "Unpack it, or name a folder or another archive"
            ) from error
        if limits.too_much(archive.unpacked_bytes, size):
            raise SourceError(
                f"this archive would unpack to {archive.unpacked_bytes} bytes: refused",
                self.path,
                "Look at it before you unpack it",
            )
        starts: dict[int, tuple[int, int]] = {}

        def runs() -> Iterator[bytes]:
            done = 0
            for number in range(archive.runs):
                start = done
                try:
                    for piece in archive.run(number):
                        done += len(piece)
                        yield piece
                except Malformed as error:
                    self._note(f"some of its files could not be unpacked ({error})")
                    self._lost[number] = str(error)
                starts[number] = start, done

        self._stream = self._held(runs())
        for file in archive.files:
            mode = file.attributes >> 16 if file.attributes & _UNIX_EXTENSION else 0
            start, end = starts[file.run] if file.run is not None else (0, 0)
            at = start + file.at
            kind = (
                "folder"
                if file.is_folder or file.attributes & _FOLDER
                else "link"
                if stat.S_ISLNK(mode)
                else "file"
                if stat.S_IFMT(mode) in (0, stat.S_IFREG)
                else "other"
            )
            target = None
            whole = file.run is None or at + file.size <= end
            if kind == "link" and whole:
                self._stream.seek(at)
                target = os.fsdecode(self._stream.read(min(file.size, 4096)))
            stamp = None if file.modified is None else round(file.modified.timestamp() * 1e6) * 1_000
            name = file.name.replace("\\", "/") if not mode else file.name
            place = at if whole else _Lost(self._lost.get(file.run or 0, "the archive ends before it"))
            self._add(name, _Member(file.size, file.modified, stamp, mode & 0o777 or 0o600, kind, target, place))

    def _add(self, name: str, made: _Member) -> None:
        """Take a member into the index, with the folders above it. Names that climb out of the archive are left out, and said."""
        self._count += 1
        if self._count > MAX_MEMBERS:
            raise SourceError(
                f"this archive holds more than {MAX_MEMBERS} files: refused",
                self.path,
                "Unpack it, and search the folder",
            )
        inner = _inner(name)
        if inner is None:
            self._note(f"a name in it leads out of it ({name[:60]!r}); it was left out")
            return
        if not inner:
            return
        known = self.members.get(inner)
        if known is not None and known.kind == "folder":
            if made.kind == "folder":
                known.modified, known.modified_ns, known.mode = made.modified, made.modified_ns, made.mode
            return
        self.members[inner] = made
        while inner:
            above, _, last = inner.rpartition("/")
            folder = self.members.get(above)
            if folder is None or folder.kind != "folder":
                folder = self.members[above] = _Member()
            elif last in folder.names:
                return
            folder.names[last] = None
            inner = above

    # --- bytes ----------------------------------------------------------------------------------------------------

    def open(self, inner: str) -> BinaryIO:
        """The bytes of a file in it, seekable. Raises `SourceError`."""
        member = self.members[inner]
        path = os.path.join(self.path, inner)
        if isinstance(member.place, _Lost):
            raise SourceError(f"this file cannot be unpacked ({member.place.why})", path)
        if isinstance(member.place, int):
            return io.BufferedReader(_Shared(self._stream, self._lock, member.place, member.size))
        assert self._zip is not None
        try:
            with self._lock, self._zip.open(member.place) as source:
                return self._taken(source, member.size)
        except RuntimeError as error:
            raise SourceError(
                "this file is protected by a password in its archive", path, "Ask for the password, and unpack it"
            ) from error
        except (NotImplementedError, *_BROKEN) as error:
            raise SourceError(f"this file cannot be unpacked ({error})", path) from error
        except OSError as error:
            raise SourceError(f"this file cannot be unpacked ({explain(error)})", path) from error

    def _taken(self, source: object, size: int) -> BinaryIO:
        """The bytes of a packed member: in memory if they are few, else in scratch space, once for each use."""
        read: Callable[[int], bytes] = source.read  # type: ignore[attr-defined]
        if size <= _IN_MEMORY_BYTES:
            return io.BytesIO(read(size + 1))
        if self._scratch is None:
            self._scratch = self._open.enter_context(self.scratch.private_folder())
        target = self._scratch / f"{time.monotonic_ns()}"
        held = target.open("x+b")
        with suppress(OSError):
            target.unlink()  # where the system lets us, it goes with its last reader
        while chunk := read(_CHUNK_BYTES):
            held.write(chunk)
        held.flush()
        held.seek(0)
        return held


class _Shared(Part):
    """A part of an archive's own stream, which several readers share."""

    def __init__(self, stream: BinaryIO, lock: threading.Lock, start: int, size: int) -> None:
        super().__init__(stream, size)
        self._lock, self._start = lock, start

    def read(self, size: int = -1) -> bytes:
        """The next bytes."""
        left = max(self._size - self._at, 0)
        wanted = left if size is None or size < 0 else min(size, left)
        with self._lock:
            self._stream.seek(self._start + self._at)
            data = self._stream.read(wanted)
        self._at += len(data)
        return data

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        """As `io.RawIOBase.readinto`."""
        data = self.read(len(buffer))
        buffer[: len(data)] = data
        return len(data)


class _Counted(Part):
    """A ZIP's stream; the number of its members is looked at before its directory is read into memory."""

    def __init__(self, stream: BinaryIO, size: int) -> None:
        super().__init__(stream, size)
        tail_at = max(size - (1 << 16) - 22, 0)
        stream.seek(tail_at)
        tail = stream.read()
        at = tail.rfind(b"PK\x05\x06")
        count = int.from_bytes(tail[at + 10 : at + 12], "little") if at >= 0 else 0
        wide = tail.rfind(b"PK\x06\x06")
        if count == 0xFFFF and wide >= 0:
            count = int.from_bytes(tail[wide + 32 : wide + 40], "little")
        if count > MAX_MEMBERS:
            raise zipfile.BadZipFile(f"it holds {count} files, more than are searched in an archive")
        stream.seek(0)


def _zstd(path: str) -> Callable[[BinaryIO], BinaryIO]:
    try:
        from rustfern.formats.archives import zstd
    except ImportError as error:
        raise SourceError(
            "archives packed in this way (zstd) need the package backports.zstd, which is not installed",
            path,
            "Install it (pip install backports.zstd), or unpack the archive",
        ) from error

    def opened(stream: BinaryIO) -> BinaryIO:
        return zstd.opened(stream)

    return opened


def _inner(name: str) -> str | None:
    """A name as a path in the archive; None where it climbs, or is deeper than any."""
    parts = [part for part in name.split("/") if part not in ("", ".")]
    return None if ".." in parts or "\0" in name or len(parts) > _MAX_DEPTH else "/".join(parts)


def _zip_name(info: zipfile.ZipInfo) -> str:
    """A member's name; names of UTF-8 without their mark, as common programs write them, are read so."""
    if info.flag_bits & 0x800:
        return info.filename
    try:
        return info.orig_filename.encode("cp437").decode("utf-8")
    except (UnicodeDecodeError, UnicodeEncodeError):
        return info.filename


def _zip_time(info: zipfile.ZipInfo) -> datetime | None:
    """When a member was last changed: by its extended timestamp (UTC), else by its wall clock, taken as UTC."""
    at, extra = 0, info.extra
    while at + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, at)
        if kind == 0x5455 and length >= 5 and extra[at + 4] & 1 and at + 9 <= len(extra):
            return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=struct.unpack_from("<i", extra, at + 5)[0])
        at += 4 + length
    try:
        return datetime(*info.date_time, tzinfo=UTC)
    except ValueError:
        return None


class ArchiveSource(NothingDeleted, Listed):
    """An archive, or a folder in one, as a source. Paths go on behind that of the archive; links are never followed."""

    medium = "the archive"

    def __init__(self, root: str, archive: Archive) -> None:
        self.root, self.archive = root, archive

    def is_current(self) -> bool:
        """Whether the file on disk is still the one that was opened."""
        try:
            facts = os.stat(self.archive.path)
        except OSError:
            return False
        return (facts.st_mtime_ns, facts.st_size) == self.archive.stamp

    @property
    def trouble(self) -> str:
        """What is wrong with the archive, empty if nothing is."""
        return self.archive.trouble

    def _inner(self, path: str) -> str:
        return os.path.normpath(path)[len(self.archive.path) :].strip("/")

    def _member(self, path: str) -> _Member | None:
        return self.archive.members.get(self._inner(path))

    def exists(self, path: str) -> bool:
        """Whether there is anything at this path."""
        return self._member(path) is not None

    def is_folder(self, path: str) -> bool | None:
        """Whether this is a folder."""
        member = self._member(path)
        return member is not None and member.kind == "folder"

    def list_folder(
        self, folder: str, is_top: bool, on_problem: OnProblem, on_error: Callable[[OSError, str], None] | None = None
    ) -> tuple[list[str], list[str]] | None:
        """As in a folder."""
        member = self._member(folder)
        if member is None or member.kind != "folder":
            on_problem(folder, "this folder could not be listed: there is none in the archive")
            return None
        above = self._inner(folder)
        prefix = f"{above}/" if above else ""
        folders = [name for name in member.names if self.archive.members[prefix + name].kind == "folder"]
        apart = frozenset(folders)
        return folders, [name for name in member.names if name not in apart]

    def entry(self, path: str) -> Entry:
        """As in a folder."""
        member = self._member(path)
        if member is None:
            raise SourceError("this could not be looked at (there is nothing in the archive)", path)
        return Entry(
            Location(self.root, path),
            member.size,
            member.modified,
            member.kind == "folder",
            member.kind == "file",
            member.target if member.kind == "link" else None,
            mode=member.mode,
            modified_ns=member.modified_ns,
        )

    def open(self, entry: Entry) -> BinaryIO:
        """As in a folder."""
        member = self._member(entry.path)
        if member is None or member.kind != "file":
            raise SourceError("this is not a regular file and was not opened", entry.path)
        return self.archive.open(self._inner(entry.path))

    def materialise(self, entry: Entry) -> AbstractContextManager[Path]:
        """As in a folder."""
        return materialised(self, entry, self.archive.scratch)
