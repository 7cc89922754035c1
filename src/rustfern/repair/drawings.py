"""DXF drawings entity by entity, older CDR drawings chunk by chunk.

Source: the published DXF reference (group codes, sections, EOF); the RIFF part of RFC 2361's references (chunk, size, padding).
"""

from __future__ import annotations

import re
from typing import BinaryIO, Literal

from rustfern.formats.drawings.dwg_dxf import BINARY, SIGN
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

_CODE = re.compile(r"\s*-?\d{1,4}\s*")
_WORD = re.compile(r"[A-Z][A-Z0-9_]{1,40}")
_OPEN_ENDED = {"SECTION": "ENDSEC", "TABLE": "ENDTAB", "BLOCK": "ENDBLK", "POLYLINE": "SEQEND"}
_ENDS = {end: start for start, end in _OPEN_ENDED.items()}


def repair_dxf(job: Job, out: BinaryIO) -> Outcome:
    """Write a drawing of its whole entities. Raises `NothingLeft`."""
    data = job.data()
    if data[SIGN : SIGN + len(BINARY)] == BINARY:
        raise NothingLeft("a drawing of binary groups is not put together here")
    ends = "\r\n" if b"\r\n" in data[:4096] else "\n"
    lines = data.decode("utf-8", "surrogateescape").splitlines()
    items: list[list[str]] = []
    lost: list[Loss] = []
    at = 0
    while at < len(lines):
        end = _group(lines, at)
        if end is not None:
            if lines[at].strip() == "0":
                items.append([])
            if items:
                items[-1] += lines[at : at + 2]
            else:
                items.append(lines[at : at + 2])
            at += 2
            continue
        # The entity in which the fault lies goes; the next that begins like one counts.
        if items and (len(items[-1]) > 2 or items[-1][1].strip() not in _ENDS):
            items.pop()
        following = next(
            (
                n
                for n in range(at + 1, len(lines) - 1)
                if lines[n].strip() == "0" and _WORD.fullmatch(lines[n + 1].strip())
            ),
            None,
        )
        if following is None:
            break
        lost.append(Loss(LossKind.OBJECTS, "", 1))
        at = following
    made, open_ones, kept = _closed(items, at >= len(lines), lost)
    if not kept:
        raise NothingLeft("no entity of the drawing is left")
    out.write((ends.join(made) + ends).encode("utf-8", "surrogateescape"))
    steps = (Step.ENTITIES, *((Step.CLOSED,) if open_ones else ()))
    return Outcome("dxf", steps, tuple(dict.fromkeys(lost)) or (Loss(LossKind.OBJECTS),))


def _group(lines: list[str], at: int) -> int | None:
    """Where a group ends; None if these two lines are none."""
    if at + 1 >= len(lines) or not _CODE.fullmatch(lines[at]) or "\0" in lines[at + 1]:
        return None
    if lines[at].strip() == "0" and not _WORD.fullmatch(lines[at + 1].strip()):
        return None
    return at + 2


def _closed(items: list[list[str]], to_the_end: bool, lost: list[Loss]) -> tuple[list[str], bool, int]:
    """(lines, whether something had to be closed, how many entities there are)."""
    if to_the_end and items and items[-1][1].strip() != "EOF" and len(items) > 1 and items[-1][1].strip() not in _ENDS:
        items.pop()  # the last one may go on
        lost.append(Loss(LossKind.OBJECTS, "", 0))
    made: list[str] = []
    stack: list[str] = []
    kept, closed = 0, False
    for item in items:
        word = item[1].strip()
        if word == "EOF":
            break
        if word in _ENDS:
            if _ENDS[word] not in stack:
                continue
            while stack and stack[-1] != _ENDS[word]:
                made += ["  0", _OPEN_ENDED[stack.pop()]]
                closed = True
            stack.pop()
        elif word == "SECTION":
            while stack:
                made += ["  0", _OPEN_ENDED[stack.pop()]]
                closed = True
            stack.append(word)
        elif word in _OPEN_ENDED:
            stack.append(word)
        elif not stack:
            made += ["  0", "SECTION", "  2", "ENTITIES"]
            stack.append("SECTION")
            closed = True
        kept += word not in _ENDS and word != "SECTION"
        made += item
    while stack:
        made += ["  0", _OPEN_ENDED[stack.pop()]]
        closed = True
    return [*made, "  0", "EOF"], closed, kept


def repair_riff(job: Job, out: BinaryIO) -> Outcome:
    """Write a drawing of its whole chunks, lists that were cut closed. Raises `NothingLeft`."""
    data = job.data()
    if data[:4] not in (b"RIFF", b"RIFX") or len(data) < 20:
        raise NothingLeft("it does not begin like a drawing of chunks")
    order: Literal["little", "big"] = "little" if data[:4] == b"RIFF" else "big"
    body, lost = _chunks(data, 12, len(data), order, 0)
    if not body:
        raise NothingLeft("no chunk of the drawing is whole")
    made = data[:4] + (len(body) + 4).to_bytes(4, order) + data[8:12] + body
    if made == data:
        raise NothingLeft("its chunks are whole: nothing can be set right")
    out.write(made)
    return Outcome("cdr", (Step.RECORDS,), (Loss(LossKind.OBJECTS, "", lost),))


def _chunks(data: bytes, at: int, end: int, order: Literal["little", "big"], depth: int) -> tuple[bytes, int]:
    """(the chunks between two places that are whole, how many are not)."""
    out, lost = bytearray(), 0
    while at + 8 <= end:
        name, length = data[at : at + 4], int.from_bytes(data[at + 4 : at + 8], order)
        if not all(32 <= byte < 127 for byte in name):
            lost += 1
            break
        stop = at + 8 + length
        if (stop <= end and data[at + 8 : stop].strip(b"\0")) or (stop <= end and not length):
            out += data[at:stop] + b"\0" * (length % 2)
        elif name == b"LIST" and depth < 20 and at + 12 < end:
            inner, gone = _chunks(data, at + 12, min(stop, end), order, depth + 1)
            lost += max(gone, 1)
            if inner:
                out += name + (len(inner) + 4).to_bytes(4, order) + data[at + 8 : at + 12] + inner
        else:
            lost += 1
        at = stop + length % 2
    return bytes(out), lost
