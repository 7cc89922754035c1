"""Places of a disk where documents may begin, some at a time: looked at by this process, or by another one that is ahead of the search.

What is told of a place depends on what is free; so it comes with how far from it anything was asked for. A search takes it over where its own
free space is the same as far as that, and looks itself where it is not: the answer is the same, whoever looked.
"""

from __future__ import annotations

import gc
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future
from hashlib import blake2b
from itertools import islice

import msgspec

from rustfern.core.errors import SourceError
from rustfern.formats.extents.registry import beginnings_of
from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.formats.interface import Limits
from rustfern.search.raw.examine import Begun, Looker
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free
from rustfern.search.raw.sweep import Sector
from rustfern.sources.disk_health import Health
from rustfern.sources.disks.interface import DiskBytes, Extent
from rustfern.sources.disks.unclaimed import SECTOR, Unclaimed
from rustfern.sources.registry import Sources

_SAME_HEADS, _MAX_HEADS = 256, 50_000
"""Sectors that begin alike and led nowhere so often, none of them anywhere, are not looked at again."""
_NEVER = -1_000_000_000
_READ_FOR = ("text", "code", "notes", "mail", "sheet")
_MOST_PLACES, _MOST_BYTES, _WIDEST = 64, 16 << 20, 1 << 30
_HORIZON, _MOST_STRETCHES = 4 << 30, 20_000
"""Bytes of free space, and stretches of it, that another process is told of."""
USUAL_CLUSTER = 4096
"""Bytes of a cluster where no file system tells."""
Place = tuple[int, bool]
"""(offset on the disk, whether a text may begin there)."""


class Batch(msgspec.Struct, frozen=True):
    """Some places in order, the part of the disk that they were found in, how many bytes were read for them, and places that are put off."""

    places: tuple[Place, ...]
    start: int
    end: int
    size: int = 0
    later: tuple[Place, ...] = ()


class Told(msgspec.Struct, frozen=True):
    """What a place is: it begins what was `found`, or a document that could not be followed (`is_begun`), or nothing. `head` is the sum of its
    sector; nothing behind `far` (bytes from the start of the disk; -1 for the end of what is free) was asked for.
    """

    offset: int
    is_text: bool
    head: bytes
    far: int
    found: RawFind | None = None
    is_begun: bool = False


class Piece(msgspec.Struct, frozen=True):
    """What another process needs to know: the places, what is free from the first of them on (if `is_cut`, not to its end), the sums of
    sectors that lead nowhere.
    """

    places: tuple[Place, ...]
    free: tuple[Extent, ...]
    is_cut: bool
    barren: tuple[bytes, ...]


class Answered(msgspec.Struct, frozen=True):
    """What another process says; `is_troubled`: the disk returned errors."""

    told: tuple[Told, ...]
    is_troubled: bool


class Asked(msgspec.Struct, frozen=True):
    """A batch that waits for its turn; if another process was asked, its answer, whether not all that is free was known to it, and how many finds
    there were then.
    """

    batch: Batch
    answer: Future[Answered] | None = None
    is_cut: bool = False
    finds: int = 0


class Heads:
    """How often sectors that are alike led nowhere."""

    def __init__(self, barren: Iterable[bytes] = ()) -> None:
        """`barren` are the sums of those that are known to lead nowhere."""
        self._counts: OrderedDict[bytes, int] = OrderedDict()
        self._barren = dict.fromkeys(barren)

    def is_barren(self, head: bytes) -> bool:
        """Whether sectors of this sum are not worth a look."""
        return head in self._barren

    def barren(self) -> tuple[bytes, ...]:
        """The sums of those that lead nowhere."""
        return tuple(self._barren)

    def note(self, head: bytes, *, is_found: bool) -> None:
        """One more of them led to a find, or nowhere."""
        count = _NEVER if is_found else self._counts.get(head, 0) + 1
        self._counts[head] = count
        self._counts.move_to_end(head)
        if count >= _SAME_HEADS:
            self._barren[head] = None
        if len(self._counts) > _MAX_HEADS:
            self._counts.popitem(last=False)


def batches(
    windows: Iterable[tuple[int, int, list[Sector]]], free: Free, start: int, wanted: str | None
) -> Iterator[Batch]:
    """The places of a sweep that begins at `start`, without those that are not free any more; where a class of documents is `wanted`, those that do not
    look like one are put off.
    """
    places: list[Place] = []
    later: list[Place] = []
    size = 0
    for offset, length, sectors in windows:
        for sector in sectors:
            if not free.holds(sector[0]):
                continue
            put_off = wanted is not None and not is_wanted(sector, wanted)
            (later if put_off else places).append((sector[0], sector[2]))
            if len(places) >= _MOST_PLACES:
                yield Batch(tuple(places), start, sector[0] + SECTOR, size, tuple(later))
                places, later, start, size = [], [], sector[0] + SECTOR, 0
        size += length
        if size >= _MOST_BYTES or (places and offset + length - start > _WIDEST):
            yield Batch(tuple(places), start, offset + length, size, tuple(later))
            places, later, start, size = [], [], offset + length, 0
    if places or size:
        yield Batch(tuple(places), start, offset + length, size, tuple(later))


def batches_of(places: Sequence[Place]) -> Iterator[Batch]:
    """Places that are known already, none too far from the first of its batch."""
    taken: list[Place] = []
    for place in places:
        if taken and (len(taken) >= _MOST_PLACES or place[0] > taken[0][0] + _WIDEST):
            yield Batch(tuple(taken), taken[0][0], taken[-1][0] + SECTOR)
            taken = []
        taken.append(place)
    if taken:
        yield Batch(tuple(taken), taken[0][0], taken[-1][0] + SECTOR)


def looked_at(looker: Looker, free: Free, heads: Heads, place: Place) -> Told | None:
    """What a place is; None where sectors like it lead nowhere. What is found is still free, and `heads` is not told: that is for whoever takes it."""
    offset, is_text = place
    data = sector_at(looker.disk, offset)
    head = blake2b(data, digest_size=8).digest()
    if heads.is_barren(head):
        return None
    looker.far = offset
    found = looker.look(free, offset, data, is_text=is_text)
    if isinstance(found, RawFind):
        return Told(offset, is_text, head, looker.far, found)
    return Told(offset, is_text, head, looker.far, is_begun=isinstance(found, Begun))


def sector_at(disk: DiskBytes, offset: int) -> bytes:
    """The sector at a place; a word that nothing begins with where it cannot be read."""
    try:
        return disk.read_at(offset, SECTOR)
    except SourceError:
        return b"unread"


def piece_of(batch: Batch, free: Free, heads: Heads) -> Piece:
    """What another process must know of a batch."""
    known = list(islice(free.onward(batch.start, _HORIZON), _MOST_STRETCHES))
    is_cut = len(known) == _MOST_STRETCHES or sum(length for _, length in known) >= _HORIZON
    end = sum(known[-1]) if known else batch.start
    # What is not known to be free is looked at by the search itself.
    return Piece(tuple(each for each in batch.places if each[0] < end), tuple(known), is_cut, heads.barren())


def grain_by(where: Unclaimed) -> Callable[[int], tuple[int, int]]:
    """(bytes of a cluster, where one begins) at a place, as file systems tell."""

    def told(offset: int) -> tuple[int, int]:
        _, cluster, first = where.volume_at(offset)
        return cluster or USUAL_CLUSTER, first

    return told


def is_wanted(sector: Sector, wanted: str) -> bool:
    """Whether a document of the class that is sought may begin here."""
    marks = beginnings_of(sector[1])
    if not marks:
        return wanted in _READ_FOR
    for each in marks:
        told = class_of(format_of_extension(extension_of(each.name)))
        if told in (wanted, "other") or each.name == "find" or each.measure.startswith(("zip", "compound")):
            return True
    return False


_here: tuple[Looker, Health] | None = None
"""In another process: what looks at places, and what counts the errors of the disk."""


def prepare(door: Sources, root: str, where: Unclaimed, limits: Limits) -> None:
    """Have this process look at places of a disk that a search asks it for. Raises `SourceError`."""
    global _here
    held = door.disk(root)
    assert held is not None
    gc.freeze()
    _here = Looker(held.disk.bytes, limits, grain_by(where)), door.health


def here() -> tuple[Looker, Health]:
    """What this process looks with, and what counts the errors of the disk: it was prepared for that."""
    assert _here is not None
    return _here


def answered(piece: Piece) -> Answered:
    """What the places of a piece are, each as if those before it had been taken over."""
    looker, health = here()
    found = look_at(piece, looker, health)
    gc.collect()  # documents that were read leave large rings of objects behind
    return found


def look_at(piece: Piece, looker: Looker, health: Health) -> Answered:
    """As `answered`."""
    free, heads = Free(piece.free), Heads(piece.barren)
    told = []
    for place in piece.places:
        if not free.holds(place[0]) or (each := looked_at(looker, free, heads, place)) is None:
            continue
        told.append(each)
        heads.note(each.head, is_found=each.found is not None)
        if each.found is not None:
            free.take(each.found.extents)
    return Answered(tuple(told), bool(health.troubles))
