"""What a choice says of itself, typed: reasons, cautions, next steps, and what is to be known of a whole search.

Decisions rest on the kinds; words are made of them where they are shown (`selection.wording`). Times are aware UTC.
"""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

import msgspec


class Remark(msgspec.Struct, frozen=True):
    """What a remark of any kind may be about: copies by their place in the list, an amount of something, a time, names or paths from disk."""

    copy: int | None = None
    other: int | None = None
    count: int = 0
    less: int = 0
    unit: str = "words"
    when: datetime | None = None
    names: tuple[str, ...] = ()
    text: str = ""


class Why(StrEnum):
    """A reason for a choice, or for making none."""

    SAVED_STANDS = "saved-stands"
    SAVED_IS_A_BRANCH = "saved-is-a-branch"
    BELONGS = "belongs"
    AGAINST = "against"
    NEWEST = "newest"
    STATE = "state"
    SAVED_STATE = "saved-state"
    SAVED_LACKS = "saved-lacks"
    RUNNER_UP = "runner-up"
    ONLY_TRACES = "only-traces"
    LEFT_OUT = "left-out"
    DAMAGED_SHOWS = "damaged-shows"
    NONE_WHOLE = "none-whole"
    PROTECTED = "protected"
    NOT_VERIFIED = "not-verified"
    NOT_JUDGED = "not-judged"


class Caution(StrEnum):
    """What a technician must know beside a choice."""

    NOTHING_NEWER = "nothing-newer"
    OTHER_FORMAT = "other-format"
    LOCK_LEFT = "lock-left"
    DAMAGED_HOLDS_MORE = "damaged-holds-more"
    LAST_WORDS_GONE = "last-words-gone"
    FOLDER_DENIED = "folder-denied"
    SAVED_UNREADABLE = "saved-unreadable"
    COPY_UNVERIFIED = "copy-unverified"
    STRAY_AUTOSAVE = "stray-autosave"
    STRAY_MAY_BE_NEWER = "stray-may-be-newer"
    ONE_DATE = "one-date"
    LIES_OUTSIDE = "lies-outside"
    SAME_NAME_ELSEWHERE = "same-name-elsewhere"
    ORDER_UNKNOWN = "order-unknown"
    NEWER_IS_POORER = "newer-is-poorer"
    FULLER_TAKEN = "fuller-taken"
    SAVED_WENT_ON = "saved-went-on"
    OTHER_BRANCH = "other-branch"
    EARLIER_DIFFERS = "earlier-differs"
    NOT_JUDGED = "not-judged"
    NEWER_MAY_BE_ANOTHERS = "newer-may-be-anothers"


UNSURE = frozenset(
    {
        Caution.FOLDER_DENIED,
        Caution.SAVED_UNREADABLE,
        Caution.COPY_UNVERIFIED,
        Caution.LOCK_LEFT,
        Caution.STRAY_AUTOSAVE,
        Caution.STRAY_MAY_BE_NEWER,
        Caution.SAME_NAME_ELSEWHERE,
        Caution.NEWER_MAY_BE_ANOTHERS,
    }
)
"""Cautions with which the answer is not certain."""
KEEP_BOTH = frozenset({Caution.ORDER_UNKNOWN, Caution.SAVED_WENT_ON, Caution.OTHER_BRANCH})
"""Cautions with which two versions are to be kept."""


class Step(StrEnum):
    """What to try next, the likeliest and least harmful first."""

    REPAIR = "repair"
    SEARCH_WITHOUT_LIMIT = "search-without-limit"
    ASK_FOR_RIGHTS = "ask-for-rights"
    ATTACH_UNREACHED = "attach-unreached"
    ASK_FOR_ORIGINAL = "ask-for-original"
    SEARCH_THOROUGHLY = "search-thoroughly"
    ATTACH_BACKUPS = "attach-backups"
    ASK_HOLDERS = "ask-holders"
    OPEN_ONLINE_VERSIONS = "open-online-versions"
    LOOK_INTO_OTHER_TRASH = "look-into-other-trash"
    SEARCH_EVERYBODY = "search-everybody"
    MAKE_AN_IMAGE = "make-an-image"


class Reason(Remark, frozen=True, kw_only=True):
    """One reason."""

    kind: Why


class Warn(Remark, frozen=True, kw_only=True):
    """One caution."""

    kind: Caution

    @property
    def is_certain(self) -> bool:
        """Whether the answer stands whatever it says."""
        return self.kind not in UNSURE


class NextStep(Remark, frozen=True, kw_only=True):
    """One thing to try next."""

    kind: Step


class About(StrEnum):
    """What is to be known of a whole search."""

    DISK_FAILING = "disk-failing"
    STOPPED = "stopped"
    OPEN_HERE = "open-here"
    DELETED_BUT_OPEN = "deleted-but-open"
    WRITTEN_JUST_NOW = "written-just-now"
    CASE_IN_MEMORY = "case-in-memory"
    KEPT_FOLDER = "kept-folder"
    PERSON_FOUND = "person-found"
    NO_SUCH_DOCUMENT = "no-such-document"
    TAKEN_FOR_DOCUMENT = "taken-for-document"
    NO_SUCH_WORDS = "no-such-words"
    NO_SUCH_CLASS = "no-such-class"
    TIME_TO_COME = "time-to-come"
    TIME_FAR_OFF = "time-far-off"
    NOT_AS_TOLD = "not-as-told"
    CHECKED_LATEST = "checked-latest"
    DISK_MOUNTED = "disk-mounted"
    DELETED_LEFT_OUT = "deleted-left-out"
    RAW_NOT_DONE = "raw-not-done"
    RAW_LEFT_OUT = "raw-left-out"
    RAW_CLUTTER = "raw-clutter"
    RAW_MORE = "raw-more"
    RAW_NOT_JOINED = "raw-not-joined"


ALARMS = frozenset(
    {
        About.DISK_FAILING, About.STOPPED, About.OPEN_HERE, About.DELETED_BUT_OPEN, About.WRITTEN_JUST_NOW,
        About.DISK_MOUNTED, About.RAW_NOT_DONE,
    }
)  # fmt: skip
"""What is said before anything else."""
UNMET = frozenset(
    {
        About.NO_SUCH_DOCUMENT, About.TAKEN_FOR_DOCUMENT, About.NO_SUCH_WORDS, About.NO_SUCH_CLASS, About.TIME_TO_COME,
        About.TIME_FAR_OFF, About.NOT_AS_TOLD,
    }
)  # fmt: skip
"""What was asked for and fits nothing: said in the first line."""


class Notice(msgspec.Struct, frozen=True, kw_only=True):
    """One notice: `names` are the document or folder and the program that it is about, `text` what else is told."""

    kind: About
    names: tuple[str, ...] = ()
    count: int = 0
    when: datetime | None = None
    text: str = ""

    @property
    def is_unmet(self) -> bool:
        """Whether it says that what was asked for fits nothing."""
        return self.kind in UNMET

    @property
    def is_alarm(self) -> bool:
        """Whether it is said before anything else."""
        return self.kind in ALARMS


def counted(count: int, noun: str) -> str:
    """A number with its noun, which takes an s unless it is one: "1 word", "2 words"."""
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"
