"""GIF, BMP, WebP and layered pictures: blocks, sizes and packed rows to the end.

Source: GIF89a specification (15 to 27, appendix F), the Windows bitmap headers ([MS-WMF] 2.2.2), the WebP container specification,
the published layout of layered pictures (sections and their lengths; PackBits rows).
"""

from __future__ import annotations

import os
import struct
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.holes import lost_sector
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.paged_bytes import Data, load_or_page, unpack
from rustfern.formats.text_sink import TextSink

_MOST_STRAYS = 64
_COMPLAINTS = ("Bad code word", "Not enough data", "Corrupt JPEG data", "Premature end of JPEG", "Decoding error")
_SILENCE = threading.Lock()
_MAX = 1 << 30
_CHANNELS = 99
"""More than the 56 that are published: programs write them."""
_MAX_PIXELS = 40_000_000
_STRIP_ROWS = 128


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Read one of these pictures. Raises `Malformed`."""
    if size > _MAX:
        raise Refused("a picture of this size is refused")
    data = load_or_page(stream, size)
    if data[:4] == b"GIF8":
        return _gif(data, limits)
    if data[:2] == b"BM":
        return _bmp(data)
    if data[:4] == b"8BPS":
        return _layers(data)
    return _webp(data)


def _reading(form: str, reason: str, width: int, height: int) -> Reading:
    return Reading(Glance(format=form), State.INTACT, reason, {"width": width, "height": height}, has_text=False)


def _gif(data: Data, limits: Limits) -> Reading:
    if len(data) < 13:
        raise Malformed("the picture stops inside its header", len(data))
    width, height, flags = unpack("<HHB", data, 6)
    at = 13 + (3 << (flags & 7) + 1 if flags & 0x80 else 0)
    pictures = strays = 0
    moves, ended = False, True
    while True:
        if at >= len(data):
            if pictures != 1 or moves:
                raise Malformed("the picture stops without its end mark", len(data))
            ended = False  # all that can be seen is there
            break
        kind = data[at]
        at += 1
        if not kind and strays < _MOST_STRAYS:
            strays += 1  # some writers end a block twice
            continue
        if kind == 0x3B:
            break
        if kind == 0x21:
            moves = moves or data[at : at + 1] == b"\xff"  # a program's own block: how often it is shown again
            at = _blocks(data, at + 1)[1]
        elif kind == 0x2C:
            if at + 10 > len(data):
                raise Malformed("the picture stops inside a header", len(data))
            across, down, inner = unpack("<4xHHB", data, at)
            at += 9 + (3 << (inner & 7) + 1 if inner & 0x80 else 0)
            if at >= len(data) or not 2 <= data[at] <= 8:
                raise Malformed("the codes of a picture begin wrongly", min(at, len(data)))
            if across * down > limits.unpacked:
                raise Refused("a picture of this size is refused")
            start, least = at, data[at]
            body, at = _blocks(data, at + 1)
            got = _codes(body, least, across * down, start)
            if got < across * down:
                raise Malformed(f"a picture unpacks to {got} of {across * down} pixels", start)
            pictures += 1
        else:
            raise Malformed("no block of a picture, where one should begin", at - 1)
    if not pictures:
        raise Malformed("it holds no picture", at)
    more = "" if ended else "; its end mark is missing"
    return _reading("gif", f"read to the end: {pictures} pictures unpacked to their size{more}", width, height)


def _blocks(data: Data, at: int) -> tuple[bytes, int]:
    parts: list[bytes] = []
    while True:
        if at >= len(data):
            raise Malformed("the picture stops inside a block", len(data))
        length = data[at]
        at += 1 + length
        if not length:
            return b"".join(parts), at
        if at > len(data):
            raise Malformed("the picture stops inside a block", len(data))
        parts.append(data[at - length : at])


def _codes(body: bytes, least: int, wanted: int, start: int) -> int:
    """How many pixels the codes stand for. Raises `Malformed` for more than `wanted`."""
    from rustfern.formats.images import lzw

    try:
        got = lzw.measure(body, least, high_first=False, early=False, most=wanted + 1)
    except Malformed as error:
        raise Malformed("a code of the picture does not exist", start) from error
    if got > wanted:
        raise Malformed("the codes run over the picture", start)
    return got


def _bmp(data: Data) -> Reading:
    if len(data) < 26:
        raise Malformed("the picture stops inside its header", len(data))
    _total, _, start, header = unpack("<IIII", data, 2)
    if header == 12:
        width, height, _, bits = unpack("<HHHH", data, 18)
        packing = length = 0
    elif 16 <= header <= 256 and len(data) >= 38:
        width, height, _, bits, packing, length = unpack("<iiHHII", data, 18)
    else:
        raise Malformed("the picture's header is damaged", 14)
    if width <= 0 or not height or bits not in (1, 2, 4, 8, 16, 24, 32) or start < 14 + header:
        raise Malformed("the picture's header holds impossible values", 18)
    need = -(-width * bits // 32) * 4 * abs(height) if packing in (0, 3, 6) else length
    if start + need > len(data):
        raise Malformed(f"the picture stops after {len(data)} of {start + need} bytes", len(data))
    if packing in (1, 2):
        _runs(data, start, start + need if need else len(data), abs(height), packing == 2)
        return _reading("bmp", f"all its {abs(height)} rows of runs are there", width, abs(height))
    return _reading("bmp", f"all its {need} bytes of pixels are there; they carry no sum", width, abs(height))


def _runs(data: Data, at: int, end: int, rows: int, halves: bool) -> None:
    """Packed rows of a bitmap, of bytes or of half bytes ([MS-WMF] 3.1.6). Raises `Malformed` where rows are missing."""
    done, start = 0, at
    while at + 2 <= end:
        count, value = data[at : at + 2]
        at += 2
        if count:
            continue
        if value == 1:
            return
        if value == 0:
            done += 1
        elif value == 2:
            done += data[at + 1] if at + 2 <= end else 0
            at += 2
        else:
            at += ((value + 1) // 2 + 1 if halves else value + 1) & ~1
        if done > rows:
            raise Malformed(f"the runs go on behind the last of {rows} rows", at)
    if done < rows - 1 or at > end:
        raise Malformed(f"the runs stop after {done} of {rows} rows", start)


def _webp(data: Data) -> Reading:
    size = unpack("<I", data, 4)[0] + 8
    if size > len(data):
        raise Malformed(f"the picture stops after {len(data)} of {size} bytes", len(data))
    at, kinds, width, height = 12, [], 0, 0
    while at + 8 <= size:
        kind, length = unpack("<4sI", data, at)
        if at + 8 + length > size:
            raise Malformed("a block of the picture reaches beyond its end", at)
        body = data[at + 8 : at + 8 + min(length, 16)]
        if kind == b"VP8 ":
            if body[3:6] != b"\x9d\x01\x2a":
                raise Malformed("the start of the image data is damaged", at + 8)
            width, height = (n & 0x3FFF for n in struct.unpack_from("<HH", body, 6))
            if data.find(bytes(1024), at + 8, at + 8 + length) >= 0:
                raise Malformed("a hole of zeros in the image data", at)
        elif kind == b"VP8L":
            if body[:1] != b"\x2f":
                raise Malformed("the start of the image data is damaged", at + 8)
            bits = int.from_bytes(body[1:5], "little")
            width, height = (bits & 0x3FFF) + 1, (bits >> 14 & 0x3FFF) + 1
        if kind in (b"VP8 ", b"VP8L", b"ANMF", b"ALPH") and isinstance(data, bytes):
            hole = lost_sector(data, at + 8, at + 8 + length)
            if hole is not None:
                raise Malformed("zeros of whole sectors in the image data", hole)
        kinds.append(kind)
        at += 8 + length + length % 2
    if not {b"VP8 ", b"VP8L", b"ANMF"} & set(kinds):
        raise Malformed("it holds no picture", at)
    if isinstance(data, bytes) and (reason := refused(data)):
        raise Malformed(f"the coded pixels are damaged ({reason})", 12)
    return _reading("webp", f"its {len(kinds)} blocks fill it to the end; the coded pixels carry no sum", width, height)


def _layers(data: Data) -> Reading:
    if len(data) < 26:
        raise Malformed("the picture stops inside its header", len(data))
    version, channels, height, width, depth = unpack(">H6xHIIH", data, 4)
    if (
        version not in (1, 2)
        or not 1 <= channels <= _CHANNELS
        or depth not in (1, 8, 16, 32)
        or not width
        or not height
    ):
        raise Malformed("the picture's header holds impossible values", 4)
    at = 26
    for section, wide in (("colours", 4), ("resources", 4), ("layers", 4 if version == 1 else 8)):
        if at + wide > len(data):
            raise Malformed(f"the picture stops before its {section}", len(data))
        length = int.from_bytes(data[at : at + wide], "big")
        at += wide + length
        if at > len(data):
            raise Malformed(f"the section of {section} reaches beyond the end of the file", len(data))
    if at + 2 > len(data):
        raise Malformed("the picture stops before its pixels", len(data))
    packing = int.from_bytes(data[at : at + 2], "big")
    at += 2
    row = (width * depth + 7) // 8
    if packing == 0:
        need = at + row * height * channels
    elif packing == 1:
        wide = 2 if version == 1 else 4
        table = data[at : at + wide * height * channels]
        need = at + len(table) + sum(int.from_bytes(table[n : n + wide], "big") for n in range(0, len(table), wide))
        if len(table) < wide * height * channels:
            raise Malformed("the picture stops inside the table of its rows", len(data))
        if isinstance(data, bytes) and (hole := lost_sector(data, at + len(table), min(need, len(data)))) is not None:
            raise Malformed("zeros of whole sectors in the packed rows", hole)
    elif packing in (2, 3):
        need = at
    else:
        raise Malformed("its pixels are packed in an impossible way", at - 2)
    if need > len(data):
        raise Malformed(f"the picture stops after {len(data)} of {need} bytes", len(data))
    return _reading("psd", "its sections and rows fill it to the end; the pixels carry no sum", width, height)


@contextmanager
def heard() -> Iterator[list[str]]:
    """The decoder of TIFF writes its complaints to the terminal by itself: they are caught, and tell of damage that it passes over."""
    said: list[str] = []
    if not hasattr(os, "set_blocking"):
        yield said
        return
    with _SILENCE:
        held, told = os.pipe()
        try:
            # What finds no room in the pipe is lost: the first complaints are enough.
            os.set_blocking(held, False)
            os.set_blocking(told, False)
            kept = os.dup(2)
            try:
                os.dup2(told, 2)
                yield said
            finally:
                os.dup2(kept, 2)
                os.close(kept)
                with suppress(BlockingIOError):
                    said += os.read(held, 1 << 16).decode("utf-8", "replace").splitlines()
        finally:
            os.close(held)
            os.close(told)


def refused(data: bytes) -> str | None:
    """Why a widely used decoder refuses a picture whose codes this version does not walk itself; None if it takes it.

    Taking it proves nothing (it also takes broken pictures); refusing it does.
    """
    import io
    import warnings

    from PIL import Image

    try:
        with warnings.catch_warnings(), heard() as said:
            warnings.simplefilter("ignore")
            Image.open(io.BytesIO(data), formats=["WEBP", "TIFF"]).load()
        return next((line.rstrip(".")[:80] for line in said if any(sign in line for sign in _COMPLAINTS)), None)
    except (Image.DecompressionBombError, MemoryError):
        return None
    except Exception as error:  # the decoders raise many kinds
        return str(error)[:80] or type(error).__name__


def pixels(data: bytes, kind: str) -> str | None:
    """SHA-256 of the size and pixels of a whole picture (`kind` as the library calls it), whatever is written beside them; None if it is too
    large or of several frames. The verdict is never taken from here.
    """
    import hashlib
    import io
    import warnings

    from PIL import Image

    with warnings.catch_warnings(), heard():
        warnings.simplefilter("ignore")
        try:
            with Image.open(io.BytesIO(data), formats=[kind]) as picture:
                if picture.width * picture.height > _MAX_PIXELS or getattr(picture, "n_frames", 1) > 1:
                    return None
                picture.load()
                wide, high = picture.size
                found = hashlib.sha256(f"{wide} {high} ".encode())
                # Strip by strip: all of it with four bytes a pixel would be held twice.
                for top in range(0, high, _STRIP_ROWS):
                    strip = picture.crop((0, top, wide, min(top + _STRIP_ROWS, high)))
                    found.update(strip.convert("RGBA").tobytes())
        except Exception:  # whatever a library makes of strange bytes: then only the bytes are compared
            return None
    return found.hexdigest()
