"""Names and paths as text: the form in which they are compared, made safe to show, what lies in what."""

from __future__ import annotations

import os
import re
import unicodedata

from rustfern.core.remote_paths import as_written


def fold_name(name: str) -> str:
    """The form in which file names are compared: composed (NFC), case folded, invalid bytes kept as escapes.

    Systems keep the same name composed or taken apart, and mind its case or not.
    """
    if name.isascii():
        return name.lower()
    return unicodedata.normalize("NFC", name).casefold().encode("utf-8", "backslashreplace").decode()


def show_name(text: str) -> str:
    """Make a name from disk safe to show: control and direction characters and undecodable bytes are escaped.

    Sources: Unicode Standard, section 23.2 (layout controls) and general categories Cc, Cf, Cs, Zl, Zp.
    """
    text = as_written(text)
    if text.isascii() and text.isprintable():
        return text
    out = []
    for ch in text:
        code = ord(ch)
        if 0xDC80 <= code <= 0xDCFF:
            out.append(f"\\x{code - 0xDC00:02x}")
        elif ch == "\u200d" or ch.isprintable():
            out.append(ch)
        elif ch == " " or ch == "\u00a0":
            out.append(" ")
        else:
            out.append({"\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(ch, f"\\u{code:04x}"))
    return "".join(out)


def inside(path: str, root: str) -> bool:
    """Whether a path is the root or below it, by its text."""
    if "/." in path or "//" in path or path.endswith("/") or os.sep != "/":
        path = os.path.normpath(path)
    if not path.startswith(root):
        root = os.path.normpath(root)
    elif len(path) > len(root) and path[len(root)] == os.sep:
        return True
    return path == root or path.startswith(root.rstrip(os.sep) + os.sep)


RECORD_MARK = "\x1f"
"""Stands in the path of an earlier record of the same name between the name and the number of the record. No name on a disk holds it."""


def with_record(path: str, record: int) -> str:
    """The path of one of several things that a disk records under one name."""
    return f"{path}{RECORD_MARK}{record}"


def plain_path(path: str) -> str:
    """A path as people know it: without the number of a record."""
    return path.partition(RECORD_MARK)[0] if RECORD_MARK in path else path


def record_of(path: str) -> int | None:
    """The number of the record that a path names, None if it is an ordinary one."""
    number = path.partition(RECORD_MARK)[2]
    return int(number) if number.isdecimal() else None


def stem_of(name: str) -> str:
    """A file name without its extension."""
    stem, dot, _ = name.rpartition(".")
    return stem if dot and stem else name


_RAW = re.compile(r"@(\d{1,19})")


def raw_path(volume: str, offset: int) -> str:
    """The path of what lies at a place of a disk (bytes from its start) without a record; `volume` is that of its volume, or the disk's own."""
    return os.path.join(volume, f"@{offset}")


def raw_offset(path: str) -> int | None:
    """The place that such a path names; None for any other."""
    found = _RAW.fullmatch(os.path.basename(path))
    return int(found[1]) if found else None
