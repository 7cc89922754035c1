"""Contents that will be asked for, read by the other cores of this machine in the meantime."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from concurrent.futures import BrokenExecutor, CancelledError, Future
from contextlib import suppress
from functools import partial
from types import TracebackType

import msgspec

from rustfern.content import open as contents
from rustfern.core.model import Content, Entry
from rustfern.engine.interface import EngineLost
from rustfern.engine.local import LocalEngine, cores
from rustfern.sources.registry import Sources

_WORTH, _TOGETHER, _UNDER_WAY, _MOST_WORKERS, _MOST_HELD = 300, 16, 4, 4, 256
"""Files from which on other processes are worth it; files of one piece of work; pieces that wait for each process, processes, and pieces that are held, at most."""
_LONGEST_SECONDS, _LARGEST = 120.0, 64 << 20
"""For so long a piece is waited for; files that are larger are left to who asks for them."""


_Stamp = tuple[int, int | None, int, int]
"""Size, times of its content and of anything about it, number: what changes with a file."""


class Wanted(msgspec.Struct, frozen=True):
    """A file that will be asked for, by its path, and by the name that tells its kind."""

    root: str
    path: str
    name: str


class _Read(msgspec.Struct, frozen=True):
    """What a file was when it was read, and held."""

    stamp: _Stamp
    content: Content


class _Piece(msgspec.Struct, frozen=True):
    """What was read of some files, in their order, and whether their disk had trouble."""

    read: list[_Read | None]
    has_trouble: bool


class ReadAhead:
    """Has files read in the order in which they are wanted, and gives what was read of those that did not change."""

    def __init__(self, door: Sources, wanted: Iterable[Wanted]) -> None:
        """Nothing is read ahead of what lies on disks that are read gently, or where there are few files or one core."""
        known = {(each.root, each.path): each for each in reversed(list(wanted))}
        roots = {root for root in {root for root, _ in known} if door.may_be_written(root)}  # no archive, no image
        files = [each for each in reversed(known.values()) if each.root in roots]
        self._door, self._work = door, partial(_read_all, door)
        self._pieces: list[Sequence[Wanted]] = []
        self._engine: LocalEngine | None = None
        if len(files) >= _WORTH and cores() > 1 and not door.gentle.is_on:
            self._pieces = [files[at : at + _TOGETHER] for at in range(0, len(files), _TOGETHER)]
        self._where = {
            (each.root, each.path): (number, inner)
            for number, piece in enumerate(self._pieces)
            for inner, each in enumerate(piece)
        }
        self._next = 0
        self._answers: dict[int, Future[bytes]] = {}
        self._told: dict[int, list[_Read | None]] = {}
        self._decoder = msgspec.msgpack.Decoder(_Piece)

    def __enter__(self) -> ReadAhead:
        if self._pieces:
            try:
                self._engine = LocalEngine(min(cores() - 1, _MOST_WORKERS))
                self._go_on()
            except OSError:
                self._stop()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        self._stop()

    def content(self, entry: Entry, name: str) -> Content | None:
        """What was read of a file; None where it must be read now."""
        place = self._where.pop((entry.root, entry.path), None) if self._where else None
        if place is None or entry.deleted or entry.companions or entry.part is not None:
            return None
        number, inner = place
        if self._pieces[number][inner].name != name:
            return None
        told = self._piece(number)
        read = told[inner] if told is not None else None
        return read.content if read is not None and read.stamp == _stamp(entry) else None

    def _piece(self, number: int) -> list[_Read | None] | None:
        """What was read of a piece, waited for where somebody is at it: meanwhile the next ones are read here."""
        if number in self._answers:
            while not self._answers[number].done() and self._help():
                pass
        for each in [
            each for each, answer in self._answers.items() if each == number or (each < number and answer.done())
        ]:
            self._take(each)
        if number >= self._next:
            self._next = number + 1  # it is read by who asks
        self._go_on()
        while len(self._told) > _MOST_HELD:
            del self._told[min(self._told)]
        return self._told.get(number)

    def _take(self, number: int) -> None:
        """Take what another process read."""
        try:
            piece = self._decoder.decode(self._answers.pop(number).result(_LONGEST_SECONDS))
        except (BrokenExecutor, CancelledError, TimeoutError, OSError, msgspec.DecodeError):
            self._stop()
            return
        if piece.has_trouble:
            self._stop()  # a disk that may die is read by one process, which counts its errors
        self._told[number] = piece.read

    def _help(self) -> bool:
        """Read one file of a piece that nobody is at yet; False where there is none."""
        if self._next >= len(self._pieces):
            return False
        number = self._next
        told = self._told.setdefault(number, [])
        told.append(_read(self._door, self._pieces[number][len(told)]))
        if len(told) == len(self._pieces[number]):
            self._next += 1
        return True

    def _go_on(self) -> None:
        """Give out as many pieces as may be under way."""
        if self._engine is None:
            return
        if (begun := self._told.get(self._next)) is not None:
            begun += [_read(self._door, each) for each in self._pieces[self._next][len(begun) :]]
            self._next += 1
        try:
            while self._next < len(self._pieces) and len(self._answers) < _UNDER_WAY * self._engine.workers:
                self._answers[self._next] = self._engine.submit(self._work, self._pieces[self._next])
                self._next += 1
        except EngineLost:
            self._stop()

    def _stop(self) -> None:
        self._where.clear()
        if self._engine is not None:
            self._engine.close()
            self._engine = None


def _read_all(door: Sources, files: Sequence[Wanted]) -> bytes:
    read = [_read(door, each) for each in files]
    has_trouble = bool(door.health.troubles)
    try:
        return msgspec.msgpack.encode(_Piece(read, has_trouble))
    except ValueError:  # something in them is no Unicode
        return msgspec.msgpack.encode(_Piece([None] * len(files), has_trouble))


def _read(door: Sources, file: Wanted) -> _Read | None:
    """What a file holds; None where it is not there, changes, or anything goes wrong: who asks for it sees for himself."""
    with suppress(Exception):
        source = door.open(file.root)
        entry = source.entry(file.path)
        if not entry.is_file or entry.size > _LARGEST:
            return None
        content = contents.check(door, entry, file.name)[0]
        if _stamp(source.entry(file.path)) != _stamp(entry):
            return None
        return _Read(_stamp(entry), content)
    return None


def _stamp(entry: Entry) -> _Stamp:
    return entry.size, entry.modified_ns, entry.changed_ns, entry.inode
