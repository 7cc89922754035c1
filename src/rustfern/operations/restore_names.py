"""What restored files are called, and where they go: names that every system takes, the right extension, the folders of the original."""

from __future__ import annotations

import os
import re

from rustfern.cases.case_file import StoredCopy
from rustfern.core.errors import WrongUsage
from rustfern.core.paths import stem_of
from rustfern.core.times import Clock, from_stamp
from rustfern.formats.format_table import FORMATS, TEXT_FORMATS, extension_of, format_of_extension, title_of

_UNFIT = re.compile(r'[<>:"/\\|?*\x00-\x1f\x7f]')
_DEVICES = re.compile(r"(?:con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])(?:\..*)?", re.IGNORECASE)
_DIRECTIONS = re.compile("[\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff\u2028\u2029]")
_MAX_NAME = 255
_DEEPEST = 60
_LONGEST_ASKED = 240
_KINDS = {
    "text": "Texts", "page": "Pages", "sheet": "Sheets", "slides": "Slides", "drawing": "Drawings", "image": "Pictures", "cad": "Models", "audio": "Sound",
    "video": "Films", "code": "Code", "database": "Databases", "mail": "Mail", "notes": "Notes",
}  # fmt: skip


def safe_name(name: str, limit: int = _MAX_NAME) -> str:
    """A file name that every system takes: nothing that climbs, no device names, no direction signs, at most 255 bytes.

    Source: the systems' published rules for file names; POSIX.1-2017 3.170 (filename).
    """
    fixed = _DIRECTIONS.sub("", name)
    fixed = _UNFIT.sub("_", fixed.encode("utf-8", "surrogateescape").decode("utf-8", "replace")).replace("\ufffd", "_")
    # What is left of controls and of signs without a look could play tricks on a terminal.
    fixed = "".join(
        sign if sign.isprintable() or sign == "\u200d" else " " if sign.isspace() else "_" for sign in fixed
    )
    fixed = fixed.strip().rstrip(". ")
    if not fixed.strip("."):
        fixed = "document"
    if _DEVICES.fullmatch(fixed):
        fixed = "_" + fixed
    while len(fixed.encode()) > limit:
        stem, dot, extension = fixed.rpartition(".")
        short = dot and stem and len(extension) < 12
        fixed = f"{stem[:-1].rstrip()}.{extension}" if short else fixed[:-1]
    return fixed


def target_name(copy: StoredCopy, clock: Clock) -> tuple[str, list[str]]:
    """The name of a restored copy: the document's, the kind, when it was written, the right extension; and notes."""
    facts, document = copy.facts, copy.document
    name, format_name = document.name, facts.format
    folder = bool(facts.members)
    extension = "" if folder else extension_of(name)
    claimed = format_of_extension(extension)
    stem = name if folder or not extension or claimed is None else stem_of(name)
    notes = []
    if not folder:
        right = _right_extension(extension, claimed, format_name)
        if claimed and format_name and right != extension:
            notes.append(
                f"the document was {title_of(claimed)} (.{extension}), this copy is {title_of(format_name)}: it opens as .{right}{_in_program(right)}"
            )
        extension = right
    when = facts.written
    stamp = ""
    if when:
        told = clock.local(from_stamp(when))
        stamp = f" {told:%Y-%m-%d %H.%M}"
    # The time of a deleted file is that of its last save, not of its deletion.
    label = f" ({'saved' if facts.kind == 'deleted' else facts.kind}{stamp})"
    ending = label + (f".{extension}" if extension else "")
    base = safe_name(stem, _MAX_NAME - len(ending.encode()) - 8)
    return base + ending, notes


def _right_extension(extension: str, claimed: str | None, format_name: str | None) -> str:
    if format_name is None or format_name == "cfb":
        return extension
    if claimed == format_name or (claimed in TEXT_FORMATS and format_name in TEXT_FORMATS):
        return extension
    return format_name


def check_name(wanted: str) -> None:
    """Refuse what no system takes for a file's name. Raises `WrongUsage` that says why."""
    name = wanted.strip()
    why = (
        "is empty" if not name
        else "leads to a folder" if not name.strip(".")
        else "begins like an option" if name.startswith("-")
        else "is the name of a device on some systems" if _DEVICES.fullmatch(name)
        else "is longer than 240 bytes" if len(name.encode("utf-8", "surrogateescape")) > _LONGEST_ASKED
        else "ends with a dot" if name.endswith(".")
        else f"holds {_UNFIT.search(name)[0]!r}" if _UNFIT.search(name)  # type: ignore[index]
        else "holds signs that cannot be seen" if safe_name(name) != name
        else ""
    )  # fmt: skip
    if why:
        raise WrongUsage(
            f"this cannot be the name of a file: it {why}", wanted[:80], "Give a plain name with --as, without folders"
        )


def named(copy: StoredCopy, wanted: str) -> tuple[str, list[str]]:
    """The name that the technician wants, with the right extension; and notes."""
    facts = copy.facts
    name = safe_name(wanted)
    if facts.members:
        return name, []
    extension = extension_of(name)
    right = _right_extension(extension, format_of_extension(extension), facts.format)
    if extension and (right == extension or facts.format is None):
        return name, []
    if not right:
        return name, []
    notes = [f"its content is {title_of(facts.format)}, so .{right} was added to the name"] if extension else []
    return safe_name(name, _MAX_NAME - len(right) - 9) + f".{right}", notes


def layout(copy: StoredCopy) -> list[str]:
    """The folders of the original below the root that was searched, made safe; nothing climbs, nothing is absolute. The person's name for
    what was never saved; the kind of document for what was found without a record.
    """
    original = copy.document.original or ""
    root = copy.root.rstrip(os.sep)
    if original.startswith(root + os.sep):
        folders = os.path.dirname(original[len(root) + 1 :]).replace("\\", "/").split("/")
    elif copy.facts.kind == "raw":
        folders = [_KINDS.get(copy.document.doc_class, "Others")]
    else:
        folders = [copy.document.person or ""]
    return [safe_name(each, 200) for each in folders if each not in ("", ".", "..")][:_DEEPEST]


def _in_program(extension: str) -> str:
    """Which open program opens a format, where one does."""
    info = FORMATS.get(extension)
    program = info.opens_in if info else ""
    return f", for one in {program}" if program else ""
