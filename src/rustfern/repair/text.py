"""Plain text and tables: runs of zeros taken out and marked, the encoding set right, rows made complete.

Source: Unicode 15, 3.10 (encoding forms, byte order marks); RFC 4180, 2 (rows and quotes).
"""

from __future__ import annotations

import re
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from rustfern.formats.format_table import extension_of
from rustfern.formats.text.plain import encoding_of
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

_WINDOW = 64
_ZEROS = re.compile(rb"\0{2,}")
_MARKS = ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be"))
_FOUR = ((b"\xff\xfe\0\0", "utf-32-le"), (b"\0\0\xfe\xff", "utf-32-be"))
_COMMENTS = {
    "py": "# ",
    "sh": "# ",
    "yaml": "# ",
    "yml": "# ",
    "toml": "# ",
    "r": "# ",
    "c": "// ",
    "h": "// ",
    "cpp": "// ",
    "js": "// ",
    "java": "// ",
}
_COMMENTS |= {"tex": "% ", "bib": "% ", "sql": "-- ", "lua": "-- ", "css": "/* ", "ini": "; "}
_CONTROLS = re.compile("[\x00-\x08\x0e-\x1a\x1c-\x1f]")
_ROWS = 10_000
_FEW_LETTERS = 4
_HIGH = re.compile(rb"[\x80-\xff]+")
_LONG_ZEROS = re.compile(rb"\0{8,}")
_SAMPLE = 1 << 16


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a text that reads to its end. Raises `NothingLeft`."""
    lost: list[Loss] = []
    steps: list[Step] = []
    text, encoding = decoded(job.data(), lost, steps, _mark_for(job))
    if not text.strip():
        raise NothingLeft("no text is left in it")
    if job.format == "csv":
        text = _table(text, steps)
    if not steps:
        raise NothingLeft("nothing in it can be set right")
    out.write(text.encode(encoding, "replace"))
    return Outcome(job.format, tuple(steps), tuple(lost))


def _mark_for(job: Job) -> str:
    """What a mark in a text begins with: in code it is a comment. Empty for none: a table of cells has no place for one."""
    if not job.marks or job.format in ("csv", "json", "ipynb"):
        return ""
    return (
        _COMMENTS.get(extension_of(job.name), "")
        + "[about {:,} signs are missing here]"
        + (" */" if extension_of(job.name) == "css" else "")
    )


def decoded(data: bytes, lost: list[Loss], steps: list[Step], mark: str) -> tuple[str, str]:
    """The text and the encoding in which it is written again; what was taken out is added to `lost` and `steps`."""
    for sign, name in _FOUR:
        if data.startswith(sign):
            whole = len(data) - len(data) % 4
            if whole < len(data):
                lost.append(Loss(LossKind.BYTES, "", len(data) - whole, whole))
                steps.append(Step.ENCODING)
            return data[:whole].decode(name, "ignore"), name
    for sign, name in _MARKS:
        if data.startswith(sign):
            return "\ufeff" + _wide(data[2:], name, lost, steps, mark), name
    if _looks_wide(data):
        return "\ufeff" + _wide(data, "utf-16-le", lost, steps, mark), "utf-16-le"
    known = b"".join(_ZEROS.split(data))
    single = _encoding(known)
    out, position = [], 0
    for hole in _ZEROS.finditer(data):
        out.append(_decode(data[position : hole.start()], single, steps))
        count = hole.end() - hole.start()
        lost.append(Loss(LossKind.BYTES, "", count, hole.start(), hole.end()))
        steps.append(Step.ZEROS)
        out.append(_standing(mark, count))
        position = hole.end()
    out.append(_decode(data[position:], single, steps))
    text = "".join(out)
    if text.startswith(("\n[", "\n#")):
        text = text.lstrip("\n")
    cleared = _CONTROLS.sub("", text)
    if cleared != text:
        steps.append(Step.CLEANED)
    steps[:] = dict.fromkeys(steps)
    if single not in ("utf-8", "utf-8-sig"):
        try:
            cleared.encode(single)
        except UnicodeEncodeError:
            return cleared, "utf-8"
    return cleared, "utf-8" if single == "utf-8-sig" else single


def _standing(mark: str, count: int) -> str:
    return f"\n{mark.format(count)}\n" if mark else "\n"


def _encoding(data: bytes) -> str:
    """The encoding of the bytes that are there: UTF-8 if nearly all of them are."""
    good = len(data.decode("utf-8", "ignore").encode())
    foreign = sum(byte > 127 for byte in data[:_SAMPLE])
    if len(data) - good <= max(8, foreign // 8):
        return "utf-8"
    return encoding_of(data[:4096]) or "cp1252"


def _decode(data: bytes, encoding: str, steps: list[Step]) -> str:
    """Bytes as text. What is no UTF-8 in the middle of it is a letter of one byte if it stands alone, and a cut one at an end."""
    try:
        return data.decode(encoding)
    except UnicodeDecodeError:
        steps.append(Step.ENCODING)
    if encoding != "utf-8":
        return data.decode(encoding, "ignore")
    return "".join(_decode_line(line) for line in data.splitlines(keepends=True))


def _decode_line(line: bytes) -> str:
    """A line in UTF-8. A few letters of one byte each among others are letters of the code page of old; what else is wrong is left out."""
    out, position = [], 0
    while position < len(line):
        try:
            out.append(line[position:].decode())
            break
        except UnicodeDecodeError as error:
            out.append(line[position : position + error.start].decode())
            at = position + error.start
            run = _HIGH.match(line, at)
            letters = run[0].decode("cp1252", "ignore") if run is not None else ""
            if run is not None and len(run[0]) <= _FEW_LETTERS and letters.isalpha() and at and run.end() < len(line):
                out.append(letters)
                position = run.end()
            else:
                position = max(position + error.end, at + 1)
    return "".join(out)


def _looks_wide(data: bytes) -> bool:
    head = data[:4096]
    return len(head) >= 16 and head[1::2].count(0) * 10 >= len(head) * 4 and head[::2].count(0) * 10 < len(head)


def _wide(data: bytes, encoding: str, lost: list[Loss], steps: list[Step], mark: str) -> str:
    """Text of two bytes a letter, some of which may be missing: runs of zeros are taken out, where the bytes go out of step one is left out."""
    out: list[str] = []
    position = 0
    for hole in _LONG_ZEROS.finditer(data):
        start = hole.start() + (hole.start() - position) % 2
        end = hole.end() - (hole.end() - start) % 2
        out.append(_in_step_text(data[position:start], encoding, position, lost, steps))
        lost.append(Loss(LossKind.BYTES, "", end - start, start + 2, end + 2))
        steps.append(Step.ZEROS)
        out.append(_standing(mark, (end - start) // 2))
        position = end
    out.append(_in_step_text(data[position:], encoding, position, lost, steps))
    if len(data) % 2 and not steps:
        lost.append(Loss(LossKind.BYTES, "", 1, len(data) + 1))
        steps.append(Step.ENCODING)
    steps[:] = dict.fromkeys(steps)
    return _CONTROLS.sub("", "".join(out))


def _in_step_text(data: bytes, encoding: str, base: int, lost: list[Loss], steps: list[Step]) -> str:
    """A stretch without runs of zeros, without the bytes at which it goes out of step."""
    out, position = [], 0
    first = 0 if encoding == "utf-16-le" else 1
    for at, end in _runs_in_step(data, first):
        if at > position:
            lost.append(Loss(LossKind.BYTES, "", at - position, base + position + 2, base + at + 2))
            steps.append(Step.ENCODING)
        out.append(data[at : end - (end - at) % 2].decode(encoding, "ignore").replace("\0", ""))
        position = end
    return "".join(out)


def _runs_in_step(data: bytes, first: int) -> list[tuple[int, int]]:
    """Stretches (start, end) of bytes that are in step, by the rows of letters that most of the text uses."""
    high = data[1 - first :: 2]
    common = {
        value
        for value, count in enumerate(np.bincount(np.frombuffer(high, "u1"), minlength=256))
        if count * 50 >= len(high)
    }
    table = np.zeros(256, bool)
    table[list(common)] = True
    raw = np.frombuffer(data, "u1")
    usual = table[raw] & True
    runs: list[tuple[int, int]] = []
    at = 0
    while at + 1 < len(data):
        end = at
        while end + 1 < len(data):
            step = end + _WINDOW
            highs = usual[end + 1 - first : step : 2]
            zeros = raw[end:step]
            if not zeros.any() or highs.mean() < 0.6:
                break
            end = min(step, len(data))
        while end + 1 < len(data) and usual[end + 1 - first] and raw[end : end + 2].any():
            end += 2
        if end > at:
            runs.append((at, end))
        following = end + 1
        hole = np.flatnonzero(raw[end:])
        if len(hole) and hole[0] > 4:
            following = end + int(hole[0])
            following -= 0 if _in_step(usual, following, first) else 1
        elif not len(hole):
            break
        at = max(following, at + 1)
    return runs


def _in_step(usual: NDArray[np.bool_], at: int, first: int) -> bool:
    piece = usual[at + 1 - first : at + _WINDOW : 2]
    return bool(len(piece) and piece.mean() >= 0.6)


def _table(text: str, steps: list[Step]) -> str:
    """A table whose rows all have as many cells: the last one, and those around a hole, are filled up."""
    import csv

    head = text[:_SAMPLE].splitlines()[:20]
    sign = max(",;\t", key=lambda each: min((line.count(each) for line in head if line.strip()), default=0))
    quotes = text.count('"') % 2
    if quotes:
        text += '"'
    ends = "\r\n" if "\r\n" in text[:_SAMPLE] else "\n"
    if not text.endswith(("\n", "\r")) and (cut := re.search(rf"(?:^|[{sign}\n])([-+]?\d[\d.,]*)$", text)):
        text = text[: cut.start(1)]  # a number that was cut is another number
        steps.append(Step.CLOSED)
    rows = list(csv.reader(text.splitlines(keepends=True), delimiter=sign))
    widths = [len(row) for row in rows[:_ROWS] if row]
    width = max(set(widths), key=widths.count) if widths else 0
    cells_cut = any(row and len(row) != width for row in rows)
    if not cells_cut and not quotes and text.endswith("\n"):
        return text
    made = text.rstrip("\r\n").splitlines(keepends=True)
    if not cells_cut:
        return "".join(made) + ends
    steps.append(Step.CLOSED)
    out: list[str] = []
    reader = csv.reader(made, delimiter=sign)
    before = 0
    for row in reader:
        raw = "".join(made[before : reader.line_num])
        before = reader.line_num
        if not row:
            out.append(raw)
        elif len(row) < width:
            out.append(raw.rstrip("\r\n") + sign * (width - len(row)) + ends)
        elif len(row) > width and ("".join(row[width:]).strip() == "" or len(row) > width):
            out.append(_row([*row[: width - 1], " ".join(row[width - 1 :]).strip()], sign) + ends)
        else:
            out.append(raw if raw.endswith("\n") else raw + ends)
    return "".join(out)


def _row(cells: list[str], sign: str) -> str:
    return sign.join(
        '"' + cell.replace('"', '""') + '"' if re.search(f'["\r\n{re.escape(sign)}]', cell) else cell for cell in cells
    )
