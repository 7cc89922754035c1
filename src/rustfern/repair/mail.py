"""Mail messages and stores: each message as far as it goes, its parts closed.

Source: RFC 5322, 2.1 (headers and body); RFC 2046, 5.1.1 (boundaries); RFC 2045, 6.8 (base64); RFC 4155 (mbox).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import BinaryIO

from rustfern.repair.interface import MAX_WORKED_BYTES, Job, Loss, LossKind, NothingLeft, Outcome, Step

_WINDOW = 8 << 20
_ZEROS = re.compile(rb"\0{2,}")
_FROM = re.compile(rb"^From \S+ .*\d{4}", re.MULTILINE)
_BOUNDARY = re.compile(rb'boundary\s*=\s*(?:"([^"\r\n]{1,200})"|([^\s;"]{1,200}))', re.IGNORECASE)
_HEADER = re.compile(rb"^[!-9;-~]+:", re.MULTILINE)
_DIGITS = re.compile(rb"(?:^|\n)[A-Za-z0-9+/]{60,76}\r?\n")
_ENCODED = re.compile(
    rb"(content-transfer-encoding:\s*base64(?:\r?\n[^\r\n]+)*\r?\n\r?\n)(.*?)(?=\r?\n--|\Z)", re.IGNORECASE | re.DOTALL
)
_BASE64 = re.compile(rb"content-transfer-encoding:\s*base64", re.IGNORECASE)


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a message, or a store of messages, whose parts are closed. Raises `NothingLeft`."""
    lost: list[Loss] = []
    steps: list[Step] = []
    kept = 0
    for start, message in _messages(job):
        job.budget.spend()
        end = b"\r\n" if b"\r\n" in message[:4096] else b"\n"
        closed = _without_zeros(message, start, end, job, lost, steps)
        if not _HEADER.search(closed[:4096]):
            if closed.strip():
                lost.append(Loss(LossKind.MESSAGES, "", 1, start, start + len(message)))
            continue
        made = _closed(closed, end, lost, f"message {kept + 1}")
        if made != closed:
            steps.append(Step.CLOSED)
        out.write(made)
        kept += 1
        steps[:] = dict.fromkeys(steps)
    if not kept:
        raise NothingLeft("no message is left in it")
    if kept > 1:
        steps.append(Step.MESSAGES)
    if not steps:
        raise NothingLeft("nothing in it can be set right")
    return Outcome(job.format, tuple(dict.fromkeys(steps)), tuple(dict.fromkeys(lost)))


def _messages(job: Job) -> Iterator[tuple[int, bytes]]:
    """(place, bytes) of each message of a store, or of the one that a file is; of a larger one than 32 MB the parts."""
    job.stream.seek(0)
    waiting, place, left = b"", 0, job.size
    while left > 0 or waiting:
        piece = job.stream.read(min(_WINDOW, left))
        left = left - len(piece) if piece else 0
        waiting += piece
        starts = [found.start() for found in _FROM.finditer(waiting) if found.start() > 0]
        # The last one may go on behind the window.
        ready = starts if left > 0 else [*starts, len(waiting)]
        if left > 0 and not starts and len(waiting) < MAX_WORKED_BYTES:
            continue
        done = 0
        for stop in ready or [len(waiting)]:
            yield place + done, waiting[done:stop]
            done = stop
        waiting, place = waiting[done:], place + done
        if left <= 0 and not waiting:
            return


def _without_zeros(message: bytes, start: int, end: bytes, job: Job, lost: list[Loss], steps: list[Step]) -> bytes:
    """A message without its runs of zeros; a mark stands for one unless it is in an encoded part."""
    mark = end + b"[a part of this message is missing here]" + end if job.marks else end
    for hole in _ZEROS.finditer(message):
        lost.append(Loss(LossKind.BYTES, "", hole.end() - hole.start(), start + hole.start(), start + hole.end()))
        steps.append(Step.ZEROS)
    return _ZEROS.sub(lambda hole: end if _in_digits(message, hole.start(), hole.end()) else mark, message)


def _whole_digits(message: bytes, end: bytes) -> bytes:
    """A message whose encoded parts have as many digits as decode: what a hole left is cut to that."""

    def mended(found: re.Match[bytes]) -> bytes:
        plain = re.sub(rb"[^A-Za-z0-9+/=]", b"", found[2])
        if len(plain) % 4 == 0:
            return found[0]
        plain = plain.rstrip(b"=")
        plain = plain[: len(plain) - len(plain) % 4]
        return found[1] + end.join(plain[at : at + 76] for at in range(0, len(plain), 76)) + end

    return _ENCODED.sub(mended, message)


def _in_digits(data: bytes, start: int, end: int) -> bool:
    """Whether a hole lies in an encoded attachment: lines of its digits stand on both sides, or it has none of its own on one."""
    before, after = data[max(start - 400, 0) : start], data[end : end + 400]
    return any(_DIGITS.search(side) is not None for side in (before, after))


def _closed(message: bytes, end: bytes, lost: list[Loss], name: str) -> bytes:
    """A message with all its boundaries closed, and its headers ended."""
    _, sep, _ = message.partition(end + end)
    if not sep:
        lost.append(Loss(LossKind.REST, name, 0, len(message)))
        return message.rstrip(b"\r\n").rpartition(end)[0] + end + end + b"[the text of this message is missing]" + end
    message = _whole_digits(message, end)
    marks = []
    for found in _BOUNDARY.finditer(message):
        boundary = found[1] or found[2]
        opened = b"--" + boundary
        if opened in message and opened + b"--" not in message and boundary not in marks:
            marks.append(boundary)
    if not marks:
        return message
    lost.append(Loss(LossKind.REST, name, 0, len(message)))
    last = max(message.rfind(b"--" + each) for each in marks)
    part = message[last:]
    part_head, blank, body = part.partition(end + end)
    if not blank:
        # The part was cut in its own headers: it goes.
        message = message[:last].rstrip(b"\r\n") + end
    elif _BASE64.search(part_head):
        plain = re.sub(rb"[^A-Za-z0-9+/=]", b"", body)
        plain = plain[: len(plain) - len(plain) % 4]
        lines = end.join(plain[at : at + 76] for at in range(0, len(plain), 76))
        message = message[: last + len(part_head) + len(blank)] + lines + end
    else:
        message = message.rstrip(b"\r\n") + end
    return message + b"".join(b"--" + each + b"--" + end for each in reversed(marks))
