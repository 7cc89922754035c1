"""The nouns of the house: frozen facts about what was found. No input or output here, and nothing of ours imported.

Times are timezone-aware UTC unless a name ends in `_local`; sizes are bytes. Paths are `str` in the form of
`os.fsdecode` (bytes that are not UTF-8 survive as surrogate escapes); `os.fsencode` gives the raw bytes back.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from datetime import datetime, timedelta
from enum import StrEnum

import msgspec
from msgspec.structs import replace

from rustfern.core.paths import plain_path
from rustfern.core.remarks import Caution, NextStep, Notice, Reason, Warn


class Kind(StrEnum):
    """What sort of copy something is."""

    SAVED = "saved"
    AUTOSAVE = "autosave"
    BACKUP = "backup"
    TEMPORARY = "temporary"
    SWAP = "swap"
    TRASH = "trash"
    VERSION = "version"
    CONFLICT = "conflict"
    DELETED = "deleted"
    RAW = "raw"


class State(StrEnum):
    """Whether the content of a copy is whole; always given together with a reason."""

    INTACT = "intact"
    DAMAGED = "damaged"
    EMPTY = "empty"
    ENCRYPTED = "encrypted"
    UNREADABLE = "unreadable"


class Situation(StrEnum):
    """What happened to a document."""

    CRASHED = "crashed"
    NEVER_SAVED = "never-saved"
    OVERWRITTEN = "overwritten"
    DELETED = "deleted"
    WONT_OPEN = "wont-open"
    MISPLACED = "misplaced"
    DIVERGED = "diverged"
    NOTHING_LOST = "nothing-lost"


class Layout(StrEnum):
    """How a home is laid out."""

    WINDOWS = "windows"
    MACOS = "macos"
    LINUX = "linux"


class Order(StrEnum):
    """Whether a copy of a place was made before or after the saved file it belongs to."""

    BEFORE = "before"
    AFTER = "after"
    UNKNOWN = "unknown"


CLOCKS = ("content", "record", "name", "file")
"""The clocks of a copy, the most telling first."""


class Home(msgspec.Struct, frozen=True):
    """One person's profile folder. `volume` is the folder that stands for the root of the disk it came from."""

    path: str
    layout: Layout
    person: str
    volume: str | None
    root: str


class Location(msgspec.Struct, frozen=True):
    """The only identity of a thing found: the source that it lies in (by its root), its whole path, and the part of it that is meant."""

    source: str
    path: str
    part: str | None = None


class Entry(msgspec.Struct, frozen=True):
    """One thing on disk, at its location.

    `modified` is None where the system gives a time that cannot be (outside the years 1 to 9999). `companions` are the names
    of things beside it that belong to it (a database's journals, a project's data folder). `mode` are its permission bits,
    `modified_ns` is its time in ns since 1970, `changed_ns` that of the last change of anything about it, where the system keeps one.
    On a disk: whether it was `deleted`, the `extents` (offset, length; bytes from the start of the disk) where it lies, the share of a deleted
    one that no later file took (`remaining`), what else must be said of it (`caution`), and how many
    of its bytes could not be read when the image was made (`unread`).
    """

    location: Location
    size: int
    modified: datetime | None
    is_folder: bool = False
    is_file: bool = True
    link_target: str | None = None
    device: int = 0
    inode: int = 0
    mode: int = 0o600
    modified_ns: int | None = None
    changed_ns: int = 0
    companions: tuple[str, ...] = ()
    deleted: bool = False
    extents: tuple[tuple[int, int], ...] | None = None
    remaining: float | None = None
    caution: str = ""
    unread: int = 0

    @property
    def name(self) -> str:
        """Its name, without the mark of an earlier record of the same path."""
        return plain_path(os.path.basename(self.path))

    @property
    def root(self) -> str:
        """The source that it lies in, by its root."""
        return self.location.source

    @property
    def path(self) -> str:
        """Its whole path."""
        return self.location.path

    @property
    def part(self) -> str | None:
        """The part of it that is meant, None for all of it."""
        return self.location.part

    def at_part(self, part: str | None) -> Entry:
        """The same thing, of which a part is meant."""
        return replace(self, location=replace(self.location, part=part))

    @property
    def is_bundle(self) -> bool:
        """Whether it is a folder, or a file with others that belong to it: several files, restored together."""
        return self.is_folder or bool(self.companions)


class Trace(msgspec.Struct, frozen=True):
    """What a file system still tells of a name that is gone: the folder that it was in (as its tree numbers it), when it was deleted or last written (ns since
    1970), its size in bytes where that is told, and by what: `index` (the unused part of a folder's index) or `journal`.
    """

    folder: int
    name: str
    when: int | None
    size: int | None
    by: str
    deleted_then: bool


class Evidence(msgspec.Struct, frozen=True):
    """One stated reason why a copy belongs to a document. `weight` is in log-odds (natural logarithm)."""

    kind: str
    weight: float
    text: str
    family: str = "says-so"


class Glance(msgspec.Struct, frozen=True):
    """What a few KB tell: the format, and who and when by the document's own account.

    `needs` says in words what a program must be able to do to open it, where not all that read the format can. `identity`
    are ids that it keeps when it is renamed (kind, value).
    """

    format: str | None = None
    title: str | None = None
    author: str | None = None
    created: datetime | None = None
    modified: datetime | None = None
    modified_local: datetime | None = None
    needs: str | None = None
    identity: tuple[tuple[str, str], ...] = ()


class Content(msgspec.Struct, frozen=True):
    """What reading a copy to its end tells. `tokens` is a packed array of 32-bit word hashes in reading order, `lines` one of
    hashes of whole lines, paragraphs or cells.

    `looks` is the SHA-256 of a picture's pixels. `text_hash` is the SHA-256 of the normalised text (words or cells in order), None where there is no text.
    """

    glance: Glance
    state: State
    reason: str
    size: int
    sha256: str | None = None
    words: int | None = None
    text_hash: str | None = None
    tokens: bytes = b""
    lines: bytes = b""
    pixel_hash: str | None = None
    amounts: Mapping[str, int] = msgspec.field(default_factory=dict)

    @property
    def format(self) -> str | None:
        return self.glance.format


class Rebuilt(msgspec.Struct, frozen=True):
    """Text as its editor would rebuild it: bytes in the file's own encoding; how many lines came from the version that was
    opened, and how many are missing because that version was not given or is too short. `note` is said with the result.
    """

    data: bytes
    lines: int
    from_original: int
    missing: int
    note: str = ""


class Find(msgspec.Struct, frozen=True):
    """Something that a place of the catalogue explains: where it was, in which place, and what its name says.

    `fields` are the named parts of the file-name pattern: `name` (whole file name of the original), `stem` (without
    extension), `prefixed` (a stem behind a localised prefix), `tail` (name without its first letters) and so on.
    """

    entry: Entry
    place: str
    kind: str
    fields: Mapping[str, str]
    home: Home | None
    order: Order = Order.UNKNOWN
    complete: bool = True


class Outlook(msgspec.Struct, frozen=True):
    """What repair would give of a damaged copy: the format, how much of what would be in it, about how many words the whole document had (None:
    nobody knows), and how many things would be lost.
    """

    format: str
    kept: Mapping[str, int]
    about: int | None
    lost: int


class Copy(msgspec.Struct, frozen=True):
    """A version of a document's content on disk.

    `recipe` names how the content is rebuilt where the file itself is no document (empty: it is one); `bases` are the
    paths of the copies that it is rebuilt on.
    """

    entry: Entry
    kind: Kind
    place: str
    content: Content
    extension_right: bool | None
    clocks: Mapping[str, datetime]
    order: Order = Order.UNKNOWN
    complete: bool = True
    written: datetime | None = None
    written_from: str = "file"
    confidence: float = 1.0
    evidence: tuple[Evidence, ...] = ()
    members: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    recipe: str = ""
    bases: tuple[str, ...] = ()
    outlook: Outlook | None = None

    @property
    def path(self) -> str:
        return self.entry.path


class Lock(msgspec.Struct, frozen=True):
    """A small file that proves a document was open."""

    entry: Entry
    place: str
    owner: str | None
    host: str | None
    opened: datetime | None
    live: bool | None = None
    confidence: float = 0.0
    evidence: tuple[Evidence, ...] = ()
    notes: tuple[str, ...] = ()


class Record(msgspec.Struct, frozen=True):
    """A small file or entry that says something about copies. `says` is a sentence for people."""

    path: str
    type: str
    says: str
    evidence: tuple[Evidence, ...] = ()
    when: datetime | None = None


class Verdict(msgspec.Struct, frozen=True):
    """The outcome of choosing: the situation, the best copy by its place in the list, the reasons, what to be careful about, and what to try
    next where nothing is chosen.
    """

    situation: Situation
    best: int | None
    why: tuple[Reason, ...]
    warnings: tuple[Warn, ...]
    next_steps: tuple[NextStep, ...] = ()


class Document(msgspec.Struct, frozen=True):
    """What the person lost, with all that was found of it. `within` is the key of the deleted folder that it was in."""

    key: str
    name: str
    doc_class: str
    original: str | None
    original_exists: bool
    recorded: str | None
    person: str | None
    copies: tuple[Copy, ...]
    locks: tuple[Lock, ...]
    records: tuple[Record, ...]
    verdict: Verdict
    same_as: Mapping[int, int] = msgspec.field(default_factory=dict)
    within: str | None = None
    number: int = 0
    ids: tuple[str, ...] = ()

    @property
    def is_lost(self) -> bool:
        """Whether something of it was lost."""
        return self.verdict.situation is not Situation.NOTHING_LOST

    @property
    def shows_no_loss(self) -> bool:
        """Whether only the person's word speaks of a loss: no copy holds anything newer."""
        return any(each.kind is Caution.NOTHING_NEWER for each in self.verdict.warnings)

    @property
    def best_id(self) -> str | None:
        """The id of the best copy, once it is numbered; None if none is."""
        return self.ids[self.verdict.best] if self.verdict.best is not None else None


class Searched(msgspec.Struct, frozen=True):
    """One place as it is in one home: `status` is found, absent, denied, outside …; `by` is the setting that moved it
    there, `home` the path of the home whose setting it is."""

    place: str
    path: str
    status: str
    copies: int = 0
    by: str = ""
    home: str = ""


class Problem(msgspec.Struct, frozen=True):
    """Something that could not be read; the search went on."""

    path: str
    message: str


class Totals(msgspec.Struct):
    """What the search cost. `first_seconds` is when the first answers were there, `search_seconds` what finding took
    in the known places and the whole tree (reading and checking copies not counted)."""

    directories: int = 0
    files: int = 0
    dismissed_by_name: int = 0
    bytes_read: int = 0
    seconds: float = 0.0
    search_seconds: float = 0.0
    first_seconds: float = 0.0


class Hints(msgspec.Struct, frozen=True):
    """What the person could tell; times by the clock of the searched machine, which was `clock_error` ahead of the true time.

    A time without zone is what the wall clock showed there: in `zone`, or the one that the searched system is set to.
    """

    person: str | None = None
    document: str | None = None
    happened: Situation | None = None
    lost_at: datetime | None = None
    older_than: datetime | None = None
    doc_class: str | None = None
    clock_error: timedelta | None = None
    zone: str | None = None
    words: str | None = None


class Hit(msgspec.Struct, frozen=True):
    """One copy that holds words that were asked for. `number` is its document's (0: none), `ident` its id, `found` how many of the words
    it holds, `sentence` one that holds most of them; a lower `rank` is better.
    """

    number: int
    ident: str
    path: str
    sentence: str
    found: int
    rank: float


def hides_files(status: str, file_system: str) -> bool:
    """Whether files may lie on a volume that was not read: it is encrypted, damaged, or of a kind that is not read here."""
    return status in ("encrypted", "damaged") or (status != "read" and file_system not in ("", "swap", "lvm"))


class SearchedVolume(msgspec.Struct, frozen=True):
    """One volume of a disk that was searched; sizes in bytes. `status` is read, encrypted, unknown or damaged; `message` says what to do."""

    name: str
    offset: int
    size: int
    type: str
    label: str
    status: str
    message: str | None
    files: int = 0
    deleted: int = 0
    unclaimed: int = 0
    searched_raw: int = 0


class SearchedDisk(msgspec.Struct, frozen=True):
    """One disk that was searched: its container, its table, its volumes; `size` and `sector` in bytes; what is wrong with it as a whole."""

    path: str
    container: str
    size: int
    sector: int
    table: str
    volumes: tuple[SearchedVolume, ...]
    remarks: tuple[str, ...] = ()


class Answer(msgspec.Struct, frozen=True):
    """The answer of one scan. `zones` are the time zones that the searched systems are set to, by their own names; `zone` is the one
    in which people are told of times, by its name in the tz database, None for this machine's.
    """

    case: str | None
    roots: tuple[str, ...]
    homes: tuple[Home, ...]
    searched: tuple[Searched, ...]
    documents: tuple[Document, ...]
    unmatched: tuple[Copy | Lock | Record, ...]
    problems: tuple[Problem, ...]
    totals: Totals
    hints: Hints
    notices: tuple[Notice, ...] = ()
    live: bool = False
    zones: tuple[str, ...] = ()
    zone: str | None = None
    hits: tuple[Hit, ...] = ()
    stopped: bool = False
    thorough: bool = False
    disks: tuple[SearchedDisk, ...] = ()
