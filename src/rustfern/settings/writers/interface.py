"""What a writer is asked for, and how it says that it cannot."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

MAX_BYTES = 16 << 20
"""Settings files beyond this size are not written: none of a real program is nearly as large."""


class Wanted(msgspec.Struct, frozen=True):
    """One value to set: the place inside the file (`key`, as its reader tells it), its name, the value as the file has it."""

    key: str
    name: str
    value: bool | int | str


class CannotWrite(Exception):
    """A file that is left as it is, with the reason in words."""


class SetElsewhere(CannotWrite):
    """A value that an administrator has fixed in the file itself."""


Writer = Callable[[bytes, Sequence[Wanted]], bytes]
"""Gives the whole new file; raises `CannotWrite`. All other values, comments, their order, line ends and encoding stay as they are."""
