"""GIF and BMP pictures that are cut off or have holes: whole pictures of a sequence, and all rows of the last that can be had.

Source: GIF89a, 18 to 27 and appendix F (LZW); [BMP] BITMAPFILEHEADER and BITMAPINFOHEADER.
"""

from __future__ import annotations

import struct
from typing import BinaryIO

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

_MOST_PIXELS = 1 << 28


def repair_gif(job: Job, out: BinaryIO) -> Outcome:
    """Whole pictures as they are, the rows of one that is damaged packed again. Raises `NothingLeft`."""
    data = job.data()
    if data[:4] != b"GIF8" or len(data) < 13:
        raise NothingLeft("its head is gone, which tells its size and colours")
    at = 13 + (3 << (data[10] & 7) + 1 if data[10] & 0x80 else 0)
    out.write(data[:at])
    whole = pictures = 0
    share = 1.0
    pending = b""
    while at < len(data):
        job.budget.spend()
        if data[at] == 0x3B:
            break
        if data[at] == 0x21:
            end = _sub_blocks(data, at + 2)[0]
            if end < 0:
                break
            if data[at + 1] == 0xF9:
                pending = data[at:end]
            else:
                out.write(data[at:end])
            at = end
            continue
        if data[at] != 0x2C or at + 11 > len(data):
            following = data.find(b"\0!\xf9\x04", at)
            if following < 0:
                break
            at = following + 1
            continue
        head = at + 10 + (3 << (data[at + 9] & 7) + 1 if data[at + 9] & 0x80 else 0)
        if head >= len(data):
            break
        width, height = struct.unpack_from("<HH", data, at + 5)
        least = data[head]
        end, packed = _sub_blocks(data, head + 1)
        pixels = _unpacked(packed, least, width * height) if 2 <= least <= 8 else b""
        pictures += 1
        if end > 0 and len(pixels) == width * height:
            out.write(pending + data[at:end])
            whole += 1
        elif len(pixels) > width:
            share = len(pixels) / (width * height)
            out.write(pending + data[at : head + 1] + _packed(pixels + bytes(width * height - len(pixels)), least))
        pending = b""
        if end < 0:
            break
        at = end
    if not whole and share in (0.0, 1.0):
        raise NothingLeft("no row of it can be had")
    out.write(b";")
    lost = (Loss(LossKind.AREA, "", max(round(100 * (1 - share)), 1)),) if share < 1 else ()
    return Outcome("gif", (Step.ROWS_KEPT,), lost)


def _sub_blocks(data: bytes, at: int) -> tuple[int, bytes]:
    """(where blocks end that each tell their length, -1 where they do not; their content)."""
    out = bytearray()
    while at < len(data):
        length = data[at]
        out += data[at + 1 : at + 1 + length]
        if not length:
            return at + 1, bytes(out)
        at += 1 + length
    return -1, bytes(out)


def _unpacked(data: bytes, least: int, most: int) -> bytes:
    """Pixels in LZW, as far as they go."""
    clear = 1 << least
    base = [bytes((n,)) for n in range(clear)] + [b"", b""]
    table, width, before = base.copy(), least + 1, b""
    out = bytearray()
    hole = data.find(bytes(64))
    at, end = 0, (hole if hole >= 0 else len(data)) * 8
    while at + width <= end and len(out) < most:
        place = at >> 3
        code = int.from_bytes(data[place : place + 3], "little") >> (at & 7) & ((1 << width) - 1)
        at += width
        if code == clear:
            table, width, before = base.copy(), least + 1, b""
            continue
        if code == clear + 1:
            break
        if not before:
            if code >= clear:
                break
            found = table[code]
        elif code < len(table):
            found = table[code]
            table.append(before + found[:1])
        elif code == len(table):
            found = before + before[:1]
            table.append(found)
        else:
            break
        out += found
        before = found
        if len(table) == 1 << width and width < 12:
            width += 1
        if len(table) >= 4096:
            table = table[:4096]
    return bytes(out[:most])


def _packed(pixels: bytes, least: int) -> bytes:
    """Pixels as codes of one width, cleared before they would widen, in blocks of 255 bytes."""
    clear, width = 1 << least, least + 1
    together = (1 << least) - 2
    codes: list[int] = []
    for at in range(0, len(pixels), together):
        codes.append(clear)
        codes.extend(pixels[at : at + together])
    codes.append(clear + 1)
    held = count = 0
    out = bytearray()
    for code in codes:
        held |= code << count
        count += width
        while count >= 8:
            out.append(held & 255)
            held >>= 8
            count -= 8
    if count:
        out.append(held)
    blocks = b"".join(bytes((len(out[n : n + 255]),)) + out[n : n + 255] for n in range(0, len(out), 255))
    return blocks + b"\0"


def repair_bmp(job: Job, out: BinaryIO) -> Outcome:
    """All rows that are there, the rest grey; a head that is gone is that of a sample. Raises `NothingLeft`."""
    data = job.data()
    lost: list[Loss] = []
    head = data[:54]
    if head[:2] != b"BM" or not 12 <= int.from_bytes(head[14:18], "little") <= 124:
        sample = next((each for each in job.others if each.is_sample and each.data[:2] == b"BM"), None)
        if sample is None:
            raise NothingLeft("its head is gone, which tells its size: name a healthy one of the same size with --like")
        start = int.from_bytes(sample.data[10:14], "little")
        data = sample.data[:start] + data[start:]
        head = data[:54]
        lost.append(Loss(LossKind.HEAD))
    if len(head) < 54:
        raise NothingLeft("it stops inside its head")
    start, size = int.from_bytes(head[10:14], "little"), int.from_bytes(head[14:18], "little")
    if size == 12:
        width, height, _, bits = struct.unpack_from("<HHHH", head, 18)
        packing = 0
    else:
        width, height, _, bits, packing = struct.unpack_from("<iiHHI", head, 18)
    row = (abs(width) * bits + 31) // 32 * 4
    wanted = row * abs(height)
    if packing not in (0, 3) or not 0 < wanted <= _MOST_PIXELS * 4 or start < 14 + size:
        raise NothingLeft("its rows are packed, or its head tells impossible things")
    rows = data[start : start + wanted]
    if len(data) < start or not rows:
        raise NothingLeft("none of its rows is left")
    share = len(rows) / wanted
    if share < 1:
        lost.append(Loss(LossKind.AREA, "", max(round(100 * (1 - share)), 1)))
    made = bytearray(data[:start] + rows + b"\x80" * (wanted - len(rows)))
    struct.pack_into("<I", made, 2, len(made))
    if size >= 40:
        struct.pack_into("<I", made, 34, wanted)
    out.write(made)
    return Outcome("bmp", (Step.ROWS_KEPT,), tuple(lost))
