"""A folder on another machine as a source: each folder is listed once, bytes are fetched in blocks as they are asked for."""

from __future__ import annotations

import io
import itertools
import os
import threading
import zlib
from collections import OrderedDict
from collections.abc import Callable, Iterable
from concurrent.futures import Future
from contextlib import AbstractContextManager, suppress
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import BinaryIO, TypeVar

import msgspec

from rustfern.core.errors import SourceError
from rustfern.core.model import Entry, Location
from rustfern.core.remote_paths import parts_of, top_of
from rustfern.output.temporary import Scratch
from rustfern.sources.interface import OnProblem
from rustfern.sources.parts import Listed, NothingDeleted, materialised
from rustfern.sources.remote.interface import TRASH, VERSIONS, Item, Link, Version

LOCK = ".@lock"
"""The ending of a file, made up, beside one that somebody has locked with the service: it holds their name."""
Tree = dict[str, dict[str, Version]]
_BLOCK_BYTES, _MOST_BLOCKS = 256 << 10, 8
_MOST_ASKED = 20_000
_MOST_AHEAD, _LEVELS, _MOST_SECONDS = 20_000, 2, 120.0
_SMALL_BYTES, _MOST_KEPT_BYTES = 1 << 20, 96 << 20
"""Files up to this size are read whole, and kept in memory up to that much of them."""
_FOLDER = Item("", "folder")


class _Stream(io.RawIOBase):
    """A file on another machine: read in blocks, of which the last few are kept; what is read on from one to the next comes in larger ones."""

    def __init__(self, read: Callable[[int, int], bytes], size: int, path: str) -> None:
        self._read, self._size, self._path, self._at = read, size, path, 0
        self._blocks: OrderedDict[int, bytes] = OrderedDict()
        self._ahead = 1

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence]
        if base + offset < 0:
            raise ValueError("before the beginning")
        self._at = base + offset
        return self._at

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        if self._at >= self._size:
            return 0
        number, inner = divmod(self._at, _BLOCK_BYTES)
        piece = self._block(number)[inner : inner + len(buffer)]
        buffer[: len(piece)] = piece
        self._at += len(piece)
        return len(piece)

    def _block(self, number: int) -> bytes:
        if number not in self._blocks:
            follows = number - 1 in self._blocks
            self._ahead = min(self._ahead * 2, _MOST_BLOCKS // 2) if follows else 1
            start = number * _BLOCK_BYTES
            wanted = min(self._ahead * _BLOCK_BYTES, self._size - start)
            data = self._read(start, wanted)
            if len(data) != wanted:
                raise SourceError(
                    f"the other side gave {len(data)} bytes of {wanted}, at byte {start}", self._path, "Try again"
                )
            for at in range(0, wanted, _BLOCK_BYTES):
                self._blocks[number + at // _BLOCK_BYTES] = data[at : at + _BLOCK_BYTES]
            while len(self._blocks) > _MOST_BLOCKS:
                self._blocks.popitem(last=False)
        self._blocks.move_to_end(number)
        return self._blocks[number]


_Told = TypeVar("_Told")


def _in_time(asked: Future[_Told] | None) -> _Told | None:
    """What was asked for ahead; None where it has to be asked for now: it still waits behind others, or was tried once without luck."""
    if asked is None or asked.cancel():
        return None
    try:
        return asked.result(_MOST_SECONDS)
    except Exception:  # of whatever kind: asked for once more, it says what it is
        return None


class Remote(msgspec.Struct, dict=True):
    """What is known of one machine, shared by all sources that lie on it: folders as they were listed."""

    top: str
    link: Link
    listed: dict[str, dict[str, Item] | SourceError] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        self.lock = threading.RLock()
        self._asked: dict[str, Future[list[Item]]] = {}
        self._contents: OrderedDict[tuple[str, str], Future[bytes]] = OrderedDict()
        self._kept = 0

    def items(self, folder: str) -> dict[str, Item]:
        """What is in a folder (path there), by name. Raises `SourceError`, each time, where it cannot be listed.

        The folders in it are asked for too, ahead of time: a link answers slowly, but many questions at once.
        """
        known = self.listed.get(folder)
        if known is None:
            with self.lock:
                asked = self._asked.get(folder)
            try:
                told = _in_time(asked)
                known = {item.name: item for item in (self.link.items(folder) if told is None else told)}
            except SourceError as error:
                known = error
            with self.lock:
                self.listed[folder] = known
                self._asked.pop(folder, None)
            if not isinstance(known, SourceError):
                self._ask_ahead(folder, known.values(), _LEVELS)
        if isinstance(known, SourceError):
            raise known
        return known

    def _ask_ahead(self, folder: str, known: Iterable[Item], levels: int) -> None:
        """Have the folders in one listed, so many levels deep, as long as not too many are waiting."""
        for path in [os.path.join(folder, each.name) for each in known if each.kind == "folder"]:
            with self.lock:
                asked = self._asked.get(path)
                if asked is None and path not in self.listed and len(self._asked) < _MOST_AHEAD:
                    with suppress(RuntimeError):  # the end of the session
                        asked = self._asked[path] = self.link.items_soon(path)
            if asked is not None and levels > 1:
                asked.add_done_callback(partial(self._further, path, levels - 1))

    def _further(self, folder: str, levels: int, told: Future[list[Item]]) -> None:
        if not told.cancelled() and told.exception() is None:
            self._ask_ahead(folder, told.result(), levels)

    def whole(self, there: str, mark: str, size: int) -> bytes:
        """All of a small file; read once, and kept as long as there is room."""
        key = there, mark
        with self.lock:
            known = self._contents.get(key)
        data = _in_time(known)
        if data is not None:
            return data
        data = self.link.read(there, 0, size, mark)
        done: Future[bytes] = Future()
        done.set_result(data)
        with self.lock:
            if known is None:
                self._kept += size
            self._contents[key] = done
            while self._kept > _MOST_KEPT_BYTES and len(self._contents) > 1:
                (_, oldest) = self._contents.popitem(last=False)
                if oldest.done() and not oldest.cancelled() and oldest.exception() is None:
                    self._kept -= len(oldest.result())
        return data

    def ahead(self, there: str, mark: str, size: int) -> None:
        """Have a small file read by the time that somebody asks for it."""
        with self.lock:
            if (there, mark) not in self._contents and self._kept + size <= _MOST_KEPT_BYTES:
                with suppress(RuntimeError):  # the end of the session
                    self._contents[there, mark] = self.link.read_soon(there, 0, size, mark)
                    self._kept += size

    def item(self, path: str, top: str) -> Item | None:
        """One thing (path there) in a folder that is searched (`top`), None if there is nothing. What lies above that is never asked for."""
        if path == top:
            self.items(top)
            return _FOLDER
        folder, name = os.path.split(path)
        if len(path) <= len(top) or folder == path:
            return None
        above = self.item(folder, top)
        if above is None or above.kind != "folder":
            return None
        return self.items(folder).get(name)


class RemoteSource(NothingDeleted, Listed):
    """A folder on another machine; with `with_versions` also the versions that a service keeps of what is in it."""

    medium = "the other machine"
    trouble = ""

    def __init__(self, root: str, remote: Remote, scratch: Scratch, wanted: Callable[[str], bool]) -> None:
        """`root` in the form used inside; `wanted` tells by its name whether the versions of a file are asked for."""
        self.root, self.remote, self.scratch, self._wanted = root, remote, scratch, wanted
        self._base = parts_of(root)[3].rstrip("/")
        self._made: dict[str, Tree] = {}

    def check(self) -> None:
        """Raises `SourceError`, with what stands in the way, where the root cannot be listed."""
        self.remote.items(self._base or "/")

    def is_current(self) -> bool:
        """What was listed counts until the end of the session."""
        return True

    def _there(self, path: str) -> str:
        return os.path.normpath(path[len(self.remote.top) :] or "/")

    def _kept_at(self, path: str) -> tuple[str, str, str] | None:
        """(which of the made-up trees, time, path in the root) of what lies among the versions or in the trash; the last two are empty for the
        top of the tree.
        """
        tree, _, rest = self._there(path)[len(self._base) :].strip("/").partition("/")
        if tree not in (VERSIONS, TRASH):
            return None
        stamp, _, inner = rest.partition("/")
        return tree, stamp, inner

    def _trees(self) -> list[str]:
        """The made-up trees that there are here."""
        link, base = self.remote.link, self._base or "/"
        there_are = {VERSIONS: link.keeps_versions(base), TRASH: bool(self._kept(TRASH))}
        return [tree for tree, is_there in there_are.items() if is_there or link.missed(tree)]

    def _kept(self, tree: str) -> Tree:
        """Time → path in the root → what is kept. Each file whose name is wanted is asked for once, a bounded number of them."""
        with self.remote.lock:
            if tree not in self._made:
                kept = self._made[tree] = {}
                link, base = self.remote.link, self._base or "/"
                if tree == TRASH:
                    for each in link.trash(base):
                        if self._wanted(os.path.basename(each.was)):
                            self._note(kept, each.deleted, "", each.was, Version(each.where, each.size, each.modified))
                elif link.keeps_versions(base):
                    files = self._files()
                    for (path, item), versions in zip(files, link.versions(files), strict=True):
                        for version in versions:
                            # The one that lives may be among them.
                            if (version.size, version.modified) != (item.size, item.modified):
                                self._note(kept, version.modified, version.by, path, version)
            return self._made[tree]

    def _note(self, kept: Tree, when: datetime | None, by: str, path: str, version: Version) -> None:
        stamp = f"{when or datetime.fromtimestamp(0, UTC):%Y-%m-%dT%H-%M-%S}" + (f" {_plain(by)}" if by else "")
        inner = path[len(self._base) :].strip("/")
        # Two of one second stand beside each other.
        names = (stamp if not number else f"{stamp}.{number + 1}" for number in itertools.count())
        kept.setdefault(next(each for each in names if inner not in kept.get(each, {})), {})[inner] = version

    def _files(self) -> list[tuple[str, Item]]:
        """The files below the root that have names which are wanted: (path there, what it is)."""
        found: list[tuple[str, Item]] = []
        stack = [self._base or "/"]
        while stack and len(found) < _MOST_ASKED:
            folder = stack.pop()
            try:
                items = self.remote.items(folder)
            except SourceError:
                continue
            stack += [os.path.join(folder, item.name) for item in items.values() if item.kind == "folder"]
            found += [
                (os.path.join(folder, item.name), item)
                for item in items.values()
                if item.kind == "file" and self._wanted(item.name)
            ]
        return found[:_MOST_ASKED]

    def _item(self, path: str) -> Item | None:
        at = self._kept_at(path)
        if at is None:
            there, top = self._there(path), self._base or "/"
            if there.endswith(LOCK) and (locked := self.remote.item(there.removesuffix(LOCK), top)) is not None:
                owner = locked.locked_by.encode()
                return Item(os.path.basename(there), "file", len(owner)) if owner else None
            return self.remote.item(there, top)
        tree, stamp, inner = at
        if not stamp:
            return _FOLDER if tree in self._trees() else None
        kept = self._kept(tree).get(stamp)
        if kept is None:
            return None
        version = kept.get(inner)
        if version is not None:
            return Item(os.path.basename(inner), "file", version.size, version.modified, version.where)
        return _FOLDER if not inner or any(name.startswith(f"{inner}/") for name in kept) else None

    def exists(self, path: str) -> bool:
        """Whether there is anything at this path."""
        try:
            return self._item(path) is not None
        except SourceError:
            return False

    def is_folder(self, path: str) -> bool | None:
        """Whether this is a folder; None where that may not be known."""
        try:
            item = self._item(path)
            if item is not None and item.kind == "folder" and self._kept_at(path) is None:
                self.remote.items(self._there(path))
        except SourceError:
            return None
        return item is not None and item.kind == "folder"

    def list_folder(
        self, folder: str, is_top: bool, on_problem: OnProblem, on_error: Callable[[OSError, str], None] | None = None
    ) -> tuple[list[str], list[str]] | None:
        """As in a folder."""
        at = self._kept_at(folder)
        try:
            if at is not None:
                return self._names_kept(*at, on_problem)
            items = list(self.remote.items(self._there(folder)).values())
        except SourceError as error:
            on_problem(folder, error.what)
            return None
        folders = [item.name for item in items if item.kind == "folder"]
        files = [item.name for item in items if item.kind != "folder"]
        files += [item.name + LOCK for item in items if item.locked_by]
        if self._there(folder) == (self._base or "/"):
            folders += self._trees()
        return folders, files

    def _names_kept(self, tree: str, stamp: str, inner: str, on_problem: OnProblem) -> tuple[list[str], list[str]]:
        if not stamp:
            stamps = sorted(self._kept(tree))
            what = "earlier versions" if tree == VERSIONS else "the trash"
            for why, times in self.remote.link.missed(tree):
                often = f" {times} times" if times > 1 else ""
                on_problem(self.root, f"the service was asked for {what}, and failed{often}: {why}; search again")
            return stamps, []
        prefix = f"{inner}/" if inner else ""
        kept = [name[len(prefix) :] for name in self._kept(tree).get(stamp, {}) if name.startswith(prefix)]
        folders = sorted({name.partition("/")[0] for name in kept if "/" in name})
        return folders, sorted(name for name in kept if "/" not in name)

    def entry(self, path: str) -> Entry:
        """As in a folder."""
        item = self._item(path)
        if item is None:
            raise SourceError("this could not be looked at (there is nothing on the other machine)", path)
        modified_ns = int(item.modified.timestamp() * 1_000_000_000) if item.modified else None
        # A strong mark changes with each change (RFC 9110, 8.8.1), and a version never does: what bears the same one was read before.
        is_sure = item.mark.startswith('"') or self._kept_at(path) is not None
        number = zlib.crc32(path.encode("utf-8", "surrogateescape")) | 1 if is_sure else 0
        return Entry(
            Location(self.root, path), item.size, item.modified, item.kind == "folder", item.kind == "file",
            item.target if item.kind == "link" else None, mode=item.mode, modified_ns=modified_ns,
            device=zlib.crc32(item.mark.encode()) if number else 0, inode=number,
        )  # fmt: skip

    def open(self, entry: Entry) -> BinaryIO:
        """As in a folder."""
        item = self._item(entry.path)
        if item is None or item.kind != "file":
            raise SourceError("this is not a regular file and was not opened", entry.path)
        if entry.path.endswith(LOCK):
            locked = self.remote.item(self._there(entry.path).removesuffix(LOCK), self._base or "/")
            return io.BytesIO(locked.locked_by.encode() if locked is not None else b"")
        is_kept = self._kept_at(entry.path) is not None
        there, mark = (item.mark, "") if is_kept else (self._there(entry.path), item.mark)

        if 0 < item.size <= _SMALL_BYTES:
            data = self.remote.whole(there, mark, item.size)
            if len(data) != item.size:
                raise SourceError(
                    f"the other side gave {len(data)} bytes of {item.size}",
                    entry.path,
                    "Search again: it may have been changed",
                )
            return io.BytesIO(data)

        def read(offset: int, length: int) -> bytes:
            return self.remote.link.read(there, offset, length, mark)

        return io.BufferedReader(_Stream(read, item.size, entry.path), _BLOCK_BYTES)

    def ahead(self, path: str) -> None:
        """Have a file read that somebody will ask for soon; nothing is said of what cannot be had."""
        try:
            item = self._item(path)
        except SourceError:
            return
        if item is not None and item.kind == "file" and 0 < item.size <= _SMALL_BYTES and self._kept_at(path) is None:
            self.remote.ahead(self._there(path), item.mark, item.size)

    def materialise(self, entry: Entry) -> AbstractContextManager[Path]:
        """As in a folder."""
        return materialised(self, entry, self.scratch)


def _plain(text: str) -> str:
    """A name as it can stand in a path."""
    return "".join(letter if letter.isalnum() or letter in " ._-@" else "-" for letter in text)[:60].strip()


__all__ = ["Remote", "RemoteSource", "top_of"]
