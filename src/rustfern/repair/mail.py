"""Mail messages and stores: each message as far as it goes, its parts closed.

Source: RFC 5322, 2.1 (headers and body); RFC 2046, 5.1.1 (boundaries); RFC 2045, 6.8 (base64); RFC 4155 (mbox).
"""

from __future__ import annotations

import re
from typing import BinaryIO

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

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
    data = job.data()
    lost: list[Loss] = []
    steps: list[Step] = []
    end = b"\r\n" if b"\r\n" in data[:4096] else b"\n"
    holes = list(_ZEROS.finditer(data))
    for hole in holes:
        lost.append(Loss(LossKind.BYTES, "", hole.end() - hole.start(), hole.start(), hole.end()))
        steps.append(Step.ZEROS)
    mark = end + b"[a part of this message is missing here]" + end if job.marks else end
    data = _ZEROS.sub(lambda hole: end if _in_digits(data, hole.start(), hole.end()) else mark, data)
    starts = [found.start() for found in _FROM.finditer(data)]
    if not starts or starts[0] > 0:
        starts = [0, *starts]
    made = []
    for start, stop in zip(starts, [*starts[1:], len(data)], strict=True):
        message = data[start:stop]
        if not _HEADER.search(message[:4096]):
            lost.append(Loss(LossKind.MESSAGES, "", 1, start, stop))
            continue
        closed = _closed(message, end, lost)
        if closed != message:
            steps.append(Step.CLOSED)
        made.append(closed)
    if not made:
        raise NothingLeft("no message is left in it")
    if len(made) > 1:
        steps.append(Step.MESSAGES)
    if not steps:
        raise NothingLeft("nothing in it can be set right")
    out.write(b"".join(made))
    return Outcome(job.format, tuple(dict.fromkeys(steps)), tuple(dict.fromkeys(lost)))


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


def _closed(message: bytes, end: bytes, lost: list[Loss]) -> bytes:
    """A message with all its boundaries closed, and its headers ended."""
    _, sep, _ = message.partition(end + end)
    if not sep:
        lost.append(Loss(LossKind.REST, "", 0, len(message)))
        return message.rstrip(b"\r\n").rpartition(end)[0] + end + end + b"[the text of this message is missing]" + end
    message = _whole_digits(message, end)
    marks = []
    for found in _BOUNDARY.finditer(message):
        name = found[1] or found[2]
        if (b"--" + name) in message and (b"--" + name + b"--") not in message and name not in marks:
            marks.append(name)
    if not marks:
        return message
    lost.append(Loss(LossKind.REST, "", 0, len(message)))
    last = max(message.rfind(b"--" + name) for name in marks)
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
    return message + b"".join(b"--" + name + b"--" + end for name in reversed(marks))
