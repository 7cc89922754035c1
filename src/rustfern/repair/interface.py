"""What a repairer is given, and what it says of what it wrote."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from enum import StrEnum
from typing import Any, BinaryIO, Protocol

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.interface import DEFAULT_LIMITS, Limits
from rustfern.formats.paged_bytes import HELD, Data, Paged

MAX_SECONDS = 120.0
MAX_HELD_BYTES = 96 << 20
"""Bytes of one file, or of one part of it, that are held at once."""
MAX_WORKED_BYTES = 32 << 20
"""Bytes of a file all of which are worked on in memory."""


class NothingLeft(Malformed):
    """Nothing of a document's content can be had: no file is written."""


class Step(StrEnum):
    """How a document was put together again."""

    DIRECTORY = "the directory of its parts was made anew from what stands before each part"
    PARTS = "parts were unpacked as far as they go"
    RESUMED = "a part was taken up again behind a hole"
    TEXT_MODE = "changes of a transfer as text were undone, which the sums of its parts prove"
    BLOCKS = "blocks that had changed places were put back, which a sum proves"
    BIT = "a bit that had flipped was set right, which a sum proves"
    CLOSED = "what was open where the bytes stop was closed"
    CLEANED = "what no program reads was taken out"
    SKELETON = "parts that programs need were made anew"
    CHAINS = "the chains of its streams were put together from what is there"
    CONTAINER = "its streams were written into a new file of the same format"
    RUNS = "its text was found without the tables that point at it"
    RECORDS = "its records were read one by one, past those that are damaged"
    OBJECTS = "its objects were found without its tables, and its pages put together again"
    ROWS = "its rows were read from every page that is there, into a new database"
    ZEROS = "runs of zeros were taken out"
    ENCODING = "its encoding was set right"
    MESSAGES = "each message that is there was taken as far as it goes"
    MEMBERS = "every member that proves whole was packed again"
    ENTITIES = "its entities were taken one by one"
    LAYERS = "its layers and previews that are whole were taken out"
    PREVIEW = "the format cannot be put together again: the largest picture that lies in it was taken out"
    INDEX = "its pictures and sounds were found in its bytes, and tables made anew that say where and when"
    STAND_INS = "for lost pictures the last one before them is shown again"
    SKIPPED = "pictures and sounds that are damaged were left out, all others kept at their times"
    FRAGMENTS = "every fragment that is whole was kept"
    FRAGMENT_TABLES = "of each fragment whose tables are left what is whole was kept, and tables made anew"
    BLOCKS_KEPT = (
        "its blocks were followed as far as they go, taken up again behind what is lost, and the rest left grey"
    )
    BLOCKS_FILLED = "its blocks were followed as far as they go, taken up again behind what is lost; what is lost shows the small picture in its head, without detail"
    SIZES = "its sizes were made anew by what is there"
    FRAMES_KEPT = "every frame that is whole was kept, one behind the other"
    SUMS = "its sums and its end were made anew"
    ROWS_KEPT = "all rows of it that can be had were packed again, and the rest left empty"
    RENAMED = "it is whole, and was given the ending of what it is"
    UNMARKED = "it is whole: what stands in the way was left behind"
    TOGETHER = "two damaged copies of it were put together"


class LossKind(StrEnum):
    """What is missing; `Loss.count` says how many of it, about."""

    PARAGRAPHS = "paragraphs"
    WORDS = "words"
    CELLS = "cells"
    ROWS = "rows"
    CELL_TEXTS = "cell texts"
    SHEETS = "sheets"
    SLIDES = "slides"
    PAGES = "pages"
    OBJECTS = "objects"
    PICTURES = "pictures"
    PARTS = "parts"
    STYLES = "styles"
    BYTES = "bytes"
    ENTRIES = "entries"
    MESSAGES = "messages"
    MEMBERS = "members"
    LAYERS = "layers"
    UNPROVEN = "unproven"
    WRONG = "wrong"
    FOREIGN = "foreign"
    SIGNS = "signs"
    TAKEN = "taken"
    ORDER = "order"
    NAMES = "names"
    FORMAT = "format"
    REST = "rest"
    FRAMES = "frames"
    SOUND = "sound"
    LIKE = "like"
    BLOCKS = "blocks"
    PACE = "pace"
    DEPTH = "depth"
    UNLIKE = "unlike"
    UNHEARD = "unheard"
    TRIED = "tried"
    STRENGTH = "strength"
    EDGE = "edge"
    AREA = "area"
    LARGE = "large picture"
    HEAD = "head"
    DETAIL = "detail"
    SIZE = "size"
    COLOURS = "colours"


class Loss(msgspec.Struct, frozen=True):
    """One thing that is missing: where (a part, a sheet, a table; empty: the document), about how many (0: nobody knows), and between which
    bytes of the file or of the part. `text` names what else it is about.
    """

    kind: LossKind
    where: str = ""
    count: int = 0
    start: int = -1
    end: int = -1
    text: str = ""


class Budget:
    """The time that one input may take."""

    def __init__(self, seconds: float = MAX_SECONDS) -> None:
        self._end = time.monotonic() + seconds

    def left(self) -> float:
        """Seconds that are left."""
        return self._end - time.monotonic()

    def spend(self) -> None:
        """Raises `NothingLeft` when the time is over."""
        if self.left() < 0:
            raise NothingLeft("putting it together takes longer than any document may")

    def part(self, seconds: float) -> Budget:
        """A part of what is left, for what may fail."""
        return Budget(max(min(seconds, self.left()), 0.0))


class Other(msgspec.Struct, frozen=True):
    """Another copy of a document: its bytes, what it is called, whether its parts were asked for (then they may be of another version), and
    whether it is a sample by the same hand, of which only what gives a document its looks may be taken. `beginnings`: of some of a sample's pictures,
    how many bytes each has, and the first of them."""

    data: bytes
    name: str
    asked: bool
    is_sample: bool = False
    beginnings: tuple[tuple[int, bytes], ...] = ()


class Job(msgspec.Struct):
    """One damaged document: a seekable stream of `size` bytes, its name, the format that it should have; whether marks stand in place of what
    is missing; bounds. `known` is what one step of the work leaves for the next. `others` are further copies of this one, and samples by the same hand.
    `strict`: of a recording no picture that cannot be shown right. `reopen` opens the same bytes once more, also in another process; None where that costs more than it saves.
    """

    stream: BinaryIO
    size: int
    name: str
    format: str
    marks: bool = True
    limits: Limits = DEFAULT_LIMITS
    budget: Budget = msgspec.field(default_factory=Budget)
    others: Sequence[Other] = ()
    known: dict[str, Any] = msgspec.field(default_factory=dict)
    strict: bool = False
    reopen: Callable[[], BinaryIO] | None = None

    def data(self, most: int = MAX_WORKED_BYTES, *, in_part: bool = False) -> bytes:
        """The bytes, at most so many of them; raises `NothingLeft` where there are more, unless a part of them will do."""
        if self.size > most and not in_part:
            raise NothingLeft(f"it has more than {most >> 20} MB: more than can be put together of this format")
        self.stream.seek(0)
        return self.stream.read(min(self.size, most))

    def whole(self) -> Data:
        """All bytes, however many: those of a large file page by page."""
        return self.data(HELD) if self.size <= HELD else Paged(self.stream, self.size)


class Outcome(msgspec.Struct):
    """What was written: its format, how, and what is lost; `source` the damaged bytes after a change that sums prove, where there was one."""

    format: str
    steps: tuple[Step, ...]
    lost: tuple[Loss, ...] = ()
    source: bytes | None = None


class Repairer(Protocol):
    """One format family: writes a whole file to `out` from a damaged one. Raises `NothingLeft` or another `Malformed`: then nothing counts."""

    def __call__(self, job: Job, out: BinaryIO) -> Outcome: ...
