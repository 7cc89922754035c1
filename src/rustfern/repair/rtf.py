"""Rich text that was cut or has a hole: its groups are closed, a picture that was cut is left out.

Source: Rich Text Format 1.9.1, "Basic Entities" (groups, control words), "Pictures".
"""

from __future__ import annotations

import re
from typing import BinaryIO

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

_TOKEN = re.compile(rb"\\bin(\d{1,10}) ?|\\(?:[a-zA-Z]{1,32}-?\d{0,10} ?|'[0-9a-fA-F]{2}|[^a-zA-Z])|[{}]|[^\\{}]+")
_ZEROS = re.compile(rb"\0{2,}")
_DROPPED = re.compile(
    rb"\{(?:\\\*)?\\(?:pict|object|objdata|\*|fonttbl|stylesheet|colortbl|info|themedata|datastore|listtable|listoverridetable)"
)
_CUT_WORD = re.compile(rb"\\(?:[a-zA-Z]{0,32}-?\d{0,10}|'[0-9a-fA-F]?)$")


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write rich text whose groups are closed. Raises `NothingLeft`."""
    data = job.data()
    lost: list[Loss] = []
    steps: list[Step] = []
    start = data.find(b"{\\rtf")
    made = bytearray()
    if start < 0:
        made += b"{\\rtf1\\ansi "
        steps.append(Step.SKELETON)
        start = 0
    elif start:
        steps.append(Step.CLEANED)
    depth_stack: list[int] = [0] if made else []
    position = start
    for hole in [*_ZEROS.finditer(data, start), None]:
        piece = data[position : hole.start() if hole else len(data)]
        _take(piece, made, depth_stack, steps)
        if hole is None:
            break
        lost.append(Loss(LossKind.BYTES, "", hole.end() - hole.start(), hole.start(), hole.end()))
        steps.append(Step.ZEROS)
        _drop_open(made, depth_stack)
        if job.marks:
            made += b"\\par [about %d signs are missing here]\\par " % (hole.end() - hole.start())
        position = hole.end()
    if depth_stack:
        before = len(made)
        tail = bytes(made[-64:])
        made[-64:] = _CUT_WORD.sub(b"", tail)
        _drop_open(made, depth_stack)
        lost.append(Loss(LossKind.PARAGRAPHS, "", 0, before))
        if job.marks and depth_stack:
            made += b"\\par [more paragraphs may be missing here]"
        made += b"}" * len(depth_stack)
        steps.append(Step.CLOSED)
    if not made.startswith(b"{\\rtf") or not re.search(
        rb"[A-Za-z]{3}", re.sub(rb"\\[a-z]+-?\d*", b"", bytes(made[: 1 << 20]))
    ):
        raise NothingLeft("no text is left in it")
    if not steps:
        raise NothingLeft("nothing in it can be set right")
    out.write(made)
    return Outcome("rtf", tuple(dict.fromkeys(steps)), tuple(lost))


def _take(piece: bytes, made: bytearray, stack: list[int], steps: list[Step]) -> None:
    """Take a piece; groups that close more than was opened are left open."""
    at = 0
    while at < len(piece):
        found = _TOKEN.match(piece, at)
        if found is None:
            break
        token, at = found[0], found.end()
        if found[1] is not None:
            count = int(found[1])
            if at + count > len(piece):
                at = len(piece)
                continue
            made += token + piece[at : at + count]
            at += count
            continue
        if token == b"{":
            stack.append(len(made))
        elif token == b"}":
            if len(stack) <= 1 and piece[at:].strip(b"\r\n \0\x1a}"):
                steps.append(Step.CLEANED)
                continue
            if not stack:
                continue
            stack.pop()
        made += token


def _drop_open(made: bytearray, stack: list[int]) -> None:
    """Leave out a picture or a table of the head that is open: half of one is none."""
    for depth, start in enumerate(stack[1:], 1):
        if _DROPPED.match(made, start):
            del made[start:]
            del stack[depth:]
            return
