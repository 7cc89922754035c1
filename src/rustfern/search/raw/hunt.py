"""The raw search of one disk: sectors first, a closer look at those that may begin a document, then those again that could not be followed.

What is found is taken out of free space at once: nothing inside of it is looked at by itself, and what goes on behind it goes on in what is left.
"""

from __future__ import annotations

import time
from bisect import bisect_right
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec
from msgspec.structs import replace

from rustfern.core.errors import SourceError
from rustfern.core.model import Hints, State
from rustfern.engine.interface import Engine
from rustfern.formats.extents.registry import TEXT, beginnings_of
from rustfern.formats.format_table import TEXT_FORMATS, class_of, extension_of, format_of_extension
from rustfern.formats.interface import Limits
from rustfern.search.raw.ahead import sweep_ahead
from rustfern.search.raw.examine import Begun, Looker
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.fragments import Joiner
from rustfern.search.raw.free import Free
from rustfern.search.raw.places import USUAL_CLUSTER, Batch, Place, Told, batches, batches_of, looked_at, sector_at
from rustfern.search.raw.sweep import ends_like_a_text, sweep
from rustfern.search.raw.tails import tails
from rustfern.search.raw.turns import Turns
from rustfern.sources.disks.interface import DiskBytes, Extent
from rustfern.sources.disks.unclaimed import SECTOR, Unclaimed

_ROUNDS, _JOINING = 3, 600.0
"""Seconds for all documents in pieces together."""
_ENOUGH, _MOSTLY = 6, 0.9
_MAX_BEGUN = 200_000
_ABOUT, _MOST_ABOUT = 8 << 20, 1 << 30
"""Bytes about a place that are looked at before others, and of all such places together."""
_MOST_HELD = 48 << 20
"""Bytes of what texts are compared by that are held for all finds together."""
_TEXTS = TEXT_FORMATS | {"rtf", "html", "eps"}
_BEGINNINGS = (b"\xef\xbb\xbf", b"\xff\xfe", b"\xfe\xff", b"#", b"=", b"---")
"""What texts begin with, and hardly a line that was cut."""
_NO_BEGINNING = "nothing shows that it begins here: it may be the end of one whose beginning lies elsewhere"
_OF_FRAMES = frozenset({"find.mp3", "find.aac"})
"""Sound of which each frame begins like the whole."""
_SIGNS = frozenset('"„“«([*-')


class Moment(msgspec.Struct):
    """How far a search is: `stage` counts the passes, `position` is the place of the disk that comes next; `rounds` and `more` are of the pass that is
    repeated as long as it finds more; `not_joined` counts what could not be tried for want of time.
    """

    stage: int = 0
    position: int = 0
    rounds: int = 0
    more: bool = False
    not_joined: int = 0


class Hunt:
    """One search of one disk. `finds` are what was found, `begun` what could not be followed to its end, by where it begins."""

    def __init__(
        self,
        disk: DiskBytes,
        where: Unclaimed,
        limits: Limits,
        hints: Hints,
        *,
        thorough: bool = False,
        engine: Engine | None = None,
    ) -> None:
        """`thorough` also seeks what is left of documents whose beginning is gone, at the price of a second pass. The processes of an `engine`, which
        were told of the disk, look ahead; it is closed when there is nothing more to be looked at by them.
        """
        self._thorough = thorough
        self.disk, self.where = disk, where
        self.free = Free(where.stretches)
        self.looker = Looker(disk, limits, self.grain_at)
        self.finds: list[RawFind] = []
        self._turns = Turns(self, engine)
        self.begun: dict[int, bool] = {}
        self.later: deque[tuple[int, bool]] = deque()
        self.moment = Moment()
        self.searched = 0
        self.clutter = 0
        named = class_of(format_of_extension(extension_of(hints.document))) if hints.document else "other"
        self._wanted = hints.doc_class or (named if named != "other" else None)
        self.grains: dict[str, tuple[int, int]] = {}
        self._before: list[Extent] = []
        self._held = 0
        self._sums: set[str] = set()

    def begin_with(self, places: Iterable[Extent]) -> None:
        """Look about these places before all others: where files lie that were written about the time of the loss."""
        near = Free(self.where.stretches)
        wanted: list[Extent] = []
        for at, length in places:
            found = [*near.onward(at, _ABOUT), *near.backward(at, _ABOUT)]
            wanted += [each for each in found if each[0] < at + length + _ABOUT and each[0] + each[1] > at - _ABOUT]
            near.take(found)
            if sum(size for _, size in wanted) > _MOST_ABOUT:
                break
        self._before = sorted(wanted)

    def know(self, extents: Iterable[Extent]) -> None:
        """Places whose content is known already: of deleted files that a record describes, and that are whole."""
        self.free.take(extents)

    def resume(
        self, finds: Sequence[RawFind], begun: dict[int, bool], later: Sequence[tuple[int, bool]], moment: Moment
    ) -> None:
        """Go on where an earlier run stopped."""
        self.finds, self.begun, self.later, self.moment = list(finds), dict(begun), deque(later), moment
        for each in finds:
            self.free.take(each.extents)
        if moment.stage == 0:
            self.searched = self.where.total() - sum(length for _, length in self._left())
        self.clutter = sum(each.is_clutter for each in finds)
        self._held = sum(len(each.content.tokens) + len(each.content.lines) for each in finds)
        self._sums = {each.content.sha256 for each in finds if each.content.sha256 is not None}

    def run(self, pause: Callable[[], bool]) -> Iterator[RawFind | None]:
        """Search; gives each find as it comes, and None now and then. `pause` is asked between places: when it is true, the search stops, and
        `moment` says where.
        """
        if self.moment.stage == 0:
            yield from self._first(pause)
        if self.moment.stage == 1:
            yield from self._postponed(pause)
        self.end()
        if self.moment.stage == 2:
            yield from self._again(pause)
        if self.moment.stage == 3:
            yield from self._joined(pause)
        if self.moment.stage == 4:
            yield from self._parts(pause)
        if self.moment.stage == 5 and self._thorough:
            yield from self._tails(pause)

    def end(self) -> None:
        """No other process looks ahead any more."""
        self._turns.end()

    def _first(self, pause: Callable[[], bool]) -> Iterator[RawFind | None]:
        if self.moment.position == 0:
            for _, _, sectors in sweep(self.disk, self._before):
                for sector in sectors:
                    # Where a text begins is only told by what lies before it.
                    if beginnings_of(sector[1]) and self.free.holds(sector[0]):
                        yield self._look((sector[0], sector[2]))
                    if pause():
                        return
        left = self._left()
        goes_on = (
            bool(left) and self.moment.position == left[0][0] and ends_like_a_text(self._sector(left[0][0] - SECTOR))
        )
        windows = sweep_ahead(self._turns.engine, self.disk, left, goes_on=goes_on, is_taken=self.free.is_taken)
        for each in self._turns.take(batches(windows, self.free, self.moment.position, self._wanted), pause):
            if isinstance(each, Batch):
                self.later.extend(each.later)
                self.searched += each.size
                self.moment.position = each.end
                yield None
            else:
                yield each
        if not self._turns.is_stopped:
            self.moment = Moment(1)

    def _left(self) -> list[Extent]:
        """What the first pass has not read yet."""
        position = self.moment.position
        return [
            (max(at, position), at + length - max(at, position))
            for at, length in self.where.stretches
            if at + length > position
        ]

    def _look(self, place: Place) -> RawFind | None:
        told = looked_at(self.looker, self.free, self._turns.heads, place)
        return None if told is None else self.take_over(told)

    def take_over(self, told: Told) -> RawFind | None:
        """Take what a place is, and what was found out of what is free."""
        self._turns.heads.note(told.head, is_found=told.found is not None)
        if told.found is not None:
            return self._take(told.found)
        if told.is_begun and len(self.begun) < _MAX_BEGUN:
            self.begun[told.offset] = told.is_text
        return None

    def _take(self, found: RawFind) -> RawFind:
        self.free.take(found.extents)
        found = self._lighter(found)
        self.finds.append(found)
        self.clutter += found.is_clutter
        self.begun.pop(found.offset, None)
        return found

    def _lighter(self, found: RawFind) -> RawFind:
        """A find without what its text is compared by, where the same was found before, or all of that together takes too much memory."""
        content = found.content
        size = len(content.tokens) + len(content.lines)
        if found.is_clutter or content.sha256 in self._sums or self._held + size > _MOST_HELD:
            return replace(found, content=replace(content, tokens=b"", lines=b"")) if size else found
        self._held += size
        if content.sha256 is not None:
            self._sums.add(content.sha256)
        return found

    def _sector(self, offset: int) -> bytes:
        return sector_at(self.disk, offset)

    def _postponed(self, pause: Callable[[], bool]) -> Iterator[RawFind | None]:
        for each in self._turns.take(batches_of(list(self.later)), pause):
            if isinstance(each, Batch):
                for _ in each.places:
                    self.later.popleft()
                yield None
            else:
                yield each
        if not self._turns.is_stopped:
            self.moment = Moment(2)

    def settle(self) -> None:
        """Take the rests of last clusters out too: what goes on elsewhere goes on where a cluster begins."""
        grains: dict[str, tuple[int, int]] = {}
        for each in self.finds:
            if not each.is_whole:
                continue
            name, cluster, first = self.where.volume_at(each.offset)
            if name not in grains:
                offsets = [f.offset for f in self.finds if self.where.volume_at(f.offset)[0] == name]
                grains[name] = grain_of(offsets, cluster, first)
            told, place = grains[name]
            at, length = each.extents[-1]
            rest = -(at + length - place) % (told or USUAL_CLUSTER)
            # Where nothing shows how large clusters are, only zeros are known to be nobody's.
            if rest and (told or not self._bytes(at + length, rest).strip(b"\0")):
                self.free.take([(at + length, rest)])
        self.grains = grains

    def _bytes(self, at: int, length: int) -> bytes:
        try:
            return self.disk.read_at(at, length)
        except SourceError:
            return b"unread"

    def grain_at(self, offset: int) -> tuple[int, int]:
        """(bytes of a cluster, where one begins) at a place, as what was found there shows."""
        name, cluster, first = self.where.volume_at(offset)
        told, place = self.grains.get(name, (cluster, first))
        return told or USUAL_CLUSTER, place

    def _again(self, pause: Callable[[], bool]) -> Iterator[RawFind | None]:
        """What could not be followed, now that what lies between is known."""
        moment = self.moment
        while moment.rounds < _ROUNDS:
            self.settle()
            for offset, is_text in sorted(self.begun.items()):
                if offset < moment.position:
                    continue
                if not self.free.holds(offset):
                    del self.begun[offset]  # it is inside of what was found since
                    continue
                found = self.looker.look(self.free, offset, self._sector(offset), is_text=is_text)
                moment.position = offset + 1
                if isinstance(found, RawFind):
                    moment.more = True
                    yield self._take(found)
                yield None
                if pause():
                    return
            if not moment.more:
                break
            moment.rounds, moment.position, moment.more = moment.rounds + 1, 0, False
        self.moment = Moment(3)

    def _joined(self, pause: Callable[[], bool]) -> Iterator[RawFind | None]:
        """Documents in pieces, put together where their format proves it."""
        self.settle()
        joiner = Joiner(self.looker, self.free, self.grain_at)
        until = time.monotonic() + _JOINING
        left = [each for each in sorted(self.begun) if each >= self.moment.position]
        not_joined = 0
        for number, offset in enumerate(left):
            if not self.free.holds(offset):
                continue
            if time.monotonic() > until:
                not_joined = len(left) - number
                break
            found = joiner.join(offset, self._sector(offset), is_text=self.begun[offset])
            self.moment.position = offset + 1
            if found is not None:
                yield self._take(found)
            yield None
            if pause():
                return
        self.moment = Moment(4, not_joined=not_joined)

    def _parts(self, pause: Callable[[], bool]) -> Iterator[RawFind | None]:
        """What is there of documents whose end was not found."""
        for offset, is_text in sorted(self.begun.items()):
            if self.free.holds(offset):
                found = self.looker.look(self.free, offset, self._sector(offset), is_text=is_text)
                part = self.looker.part(self.free, found) if isinstance(found, Begun) else found
                if part is not None:
                    yield self._take(part)
            self.begun.pop(offset, None)
            yield None
            if pause():
                return
        self.moment = Moment(5, not_joined=self.moment.not_joined)

    def _tails(self, pause: Callable[[], bool]) -> Iterator[RawFind | None]:
        """What is left of documents whose beginning is gone: all that is free is read once more."""
        for found in tails(self.disk, self.free, self.moment.position):
            if isinstance(found, RawFind):
                if self.free.holds(found.offset):
                    yield self._take(found)
                continue
            self.moment.position = found
            yield None
            if pause():
                return
        self.moment = Moment(6, not_joined=self.moment.not_joined)

    @property
    def is_done(self) -> bool:
        """Whether nothing is left to be searched."""
        return self.moment.stage >= (6 if self._thorough else 5)

    def documents(self) -> list[RawFind]:
        """What was found, without what lies inside of another find, and without clutter."""
        return list(self._with_certain_beginnings(list(outermost(self.finds))))

    def _with_certain_beginnings(self, finds: Sequence[RawFind]) -> Iterator[RawFind]:
        """A text that begins with a small letter may be the end of another one; so may any that does not begin as texts do, where texts lie about
        of which more may follow elsewhere.
        """
        unfinished = [each for each in finds if each.missing]
        open_ended = {self._volume_of(each) for each in unfinished if each.content.format in _TEXTS}
        sounds = {(each.name, self._volume_of(each)) for each in unfinished if each.name in _OF_FRAMES}
        for each in finds:
            volume = self._volume_of(each)
            if not each.is_whole:
                begins = True
            elif (each.name, volume) in sounds:
                begins = self._sector(each.offset)[:3] == b"ID3"
            elif is_plain_text(each):
                begins = begins_like_a_text(self._sector(each.offset)[:8], strictly=volume in open_ended)
            else:
                begins = True
            yield each if begins else _without_beginning(each)

    def _volume_of(self, found: RawFind) -> str:
        return self.where.volume_at(found.offset)[0]


def _without_beginning(found: RawFind) -> RawFind:
    """A find as a damaged one: its first part may lie elsewhere."""
    content = replace(found.content, state=State.DAMAGED, reason=_NO_BEGINNING)
    return replace(found, missing=_NO_BEGINNING, content=content)


def begins_like_a_text(first: bytes, *, strictly: bool) -> bool:
    """Whether the first bytes are those that texts begin with: marks that hardly stand where a line was cut; if not `strictly`, a letter that is not a
    small one, or a number.
    """
    if first.startswith(_BEGINNINGS):
        return True
    letter = first.decode("utf-8", "ignore")[:1]
    return not strictly and (letter.isdigit() or (letter.isalpha() and not letter.islower()) or letter in _SIGNS)


def is_plain_text(found: RawFind) -> bool:
    """Whether a find is a text that has no structure of its own."""
    return found.name == TEXT.name


def outermost(finds: Sequence[RawFind]) -> Iterator[RawFind]:
    """The finds that do not lie inside of another one that is whole."""
    whole = sorted((at, at + length, n) for n, each in enumerate(finds) if each.is_whole for at, length in each.extents)
    reach: list[tuple[int, int, int]] = []
    furthest = -1
    for start, end, n in whole:
        if end > furthest:
            reach.append((start, end, n))
            furthest = end
    starts = [start for start, _, _ in reach]
    for n, each in enumerate(finds):
        if each.is_clutter:
            continue
        at, length = each.extents[0]
        number = bisect_right(starts, at) - 1
        inside = (
            number >= 0
            and reach[number][2] != n
            and reach[number][1] >= at + length
            and finds[reach[number][2]].size > each.size
        )
        if not inside:
            yield each


def grain_of(offsets: Sequence[int], cluster: int, first: int) -> tuple[int, int]:
    """(bytes of a cluster, where one begins) by where documents begin: of a volume that was formatted again the old one's, if they show it.

    `cluster` and `first` are those that the volume has now; 0 bytes where nothing tells.
    """
    if len(offsets) >= _ENOUGH:
        for size in (65536, 32768, 16384, 8192, 4096, 2048, 1024):
            place, count = Counter(offset % size for offset in offsets).most_common(1)[0]
            if count >= _MOSTLY * len(offsets):
                return size, place
    return cluster, first
