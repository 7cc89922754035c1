"""WebP pictures that are cut off or have holes: all rows that stand whatever the lost bytes were, and whole pictures of a sequence.

The codes are one arithmetic or prefix code each, so what lies behind a hole says nothing. Which rows are right is found by decoding twice, with other
bytes in place of the lost ones: what comes out the same does not depend on them. Source: RFC 9649 (chunks, VP8X, ANMF), RFC 6386, 9.1 (frame header).
"""

from __future__ import annotations

import io
import random
import struct
import warnings
from typing import TYPE_CHECKING, Any, BinaryIO

import msgspec

from rustfern.formats.holes import lost_sector
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

if TYPE_CHECKING:
    import numpy as np

_SYNC = b"\x9d\x01\x2a"
_LOSSLESS, _HEAD = 0x2F, 12
_SOUGHT = 1 << 16
_MOST_PIXELS, _TRIES, _STRIP = 32 << 20, 6, 64
_ANIMATED, _MOST_SIDE = 0x02, 1 << 24
_KNOWN = frozenset({b"VP8 ", b"VP8L", b"VP8X", b"ALPH", b"ANIM", b"ANMF", b"ICCP", b"EXIF", b"XMP "})
_CODED = frozenset({b"VP8 ", b"VP8L"})
_PACKED = _CODED | {b"ALPH", b"ANMF"}
_BESIDE = {b"ICCP": "icc_profile", b"EXIF": "exif", b"XMP ": "xmp"}
_ZEROS = bytes(512)


class _Chunk(msgspec.Struct, frozen=True):
    """Kind, content as far as it goes, how long it says it is, and where the first byte of its content is lost (its length: none)."""

    kind: bytes
    body: bytes
    length: int
    good: int

    @property
    def is_whole(self) -> bool:
        return self.good >= self.length


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a picture, its rows packed without loss. Raises `NothingLeft`."""
    chunks = _chunks(job.data())
    frames = [each for each in chunks if each.kind == b"ANMF"]
    if frames:
        return _sequence(chunks, frames, out)
    coded = next((each for each in chunks if each.kind in _CODED), None)
    if coded is None:
        raise NothingLeft("the head of its pixels is gone, which tells its size and how it is coded")
    wide, high = _size(coded)
    if not 0 < wide * high <= _MOST_PIXELS:
        raise NothingLeft("its size is impossible, or more than can be put together")
    rest = {each.kind: each.body for each in chunks if each.is_whole and each.kind not in _CODED}
    if coded.is_whole and _decoded(coded.kind, coded.body, rest.get(b"ALPH")) is not None:
        # Only what stands around the pixels is damaged: they stay as they are.
        alpha = b"ALPH" in rest and coded.kind == b"VP8 "
        inner = (_chunk(b"ALPH", rest[b"ALPH"]) if alpha else b"") + _chunk(coded.kind, coded.body)
        out.write(_riff(_with_facts(rest, (wide, high), 0x10 if alpha else 0, inner)))
        return Outcome("webp", (Step.SIZES,))
    picture, rows = _rows_right(coded, rest.get(b"ALPH"), wide, high, job)
    if picture is None or not rows:
        raise NothingLeft("no row of it can be had")
    picture[rows:] = 128
    _write(out, picture, {_BESIDE[kind]: body for kind, body in rest.items() if kind in _BESIDE})
    lost = (Loss(LossKind.AREA, "", max(round(100 * (1 - rows / high)), 1)),) if rows < high else ()
    return Outcome("webp", (Step.ROWS_KEPT,), lost)


def _chunks(data: bytes) -> list[_Chunk]:
    """The chunks as far as they go; where the head of the file is gone, from the first that is found on."""
    at = _HEAD
    if data[at : at + 4] not in _KNOWN:
        places = [place for kind in _KNOWN if (place := data.find(kind, 0, _SOUGHT)) >= 0]
        at = min(places, default=len(data))
    found: list[_Chunk] = []
    while at + 8 <= len(data):
        kind, length = struct.unpack_from("<4sI", data, at)
        if kind not in _KNOWN and not (found and kind.isalnum()):
            break
        body = data[at + 8 : at + 8 + length]
        found.append(_Chunk(kind, body, length, _good(data, kind, at + 8, len(body))))
        at += 8 + length + length % 2
    if any(each.kind in _CODED or each.kind == b"ANMF" for each in found):
        return found
    # Without the heads of the chunks the pixels are found by their own.
    place, kind = data.find(_SYNC, 0, _SOUGHT) - 3, b"VP8 "
    if place < 0:
        place, kind = _HEAD + 8, b"VP8L"
        if data[place : place + 1] != bytes((_LOSSLESS,)) or len(data) < place + 5 or data[place + 4] >> 5:
            return found
    body = data[place:]
    return [*found, _Chunk(kind, body, len(body), _good(data, kind, place, len(body)))]


def _good(data: bytes, kind: bytes, start: int, length: int) -> int:
    """How many bytes from a place on stand before the first lost sector; in coded pixels, which hold none, also before a long run of zeros."""
    end = start + length
    places = [lost_sector(data, start, end)] if kind in _PACKED else []
    if kind in _CODED and (zeros := data.find(_ZEROS, start, end)) >= 0:
        places.append(zeros)
    return min((place for place in places if place is not None), default=end) - start


def _size(coded: _Chunk) -> tuple[int, int]:
    if coded.kind == b"VP8 ":
        if coded.body[3:6] != _SYNC or len(coded.body) < 10:
            return 0, 0
        wide, high = struct.unpack_from("<HH", coded.body, 6)
        return wide & 0x3FFF, high & 0x3FFF
    if len(coded.body) < 5:
        return 0, 0
    bits = int.from_bytes(coded.body[1:5], "little")
    return (bits & 0x3FFF) + 1, (bits >> 14 & 0x3FFF) + 1


def _rows_right(coded: _Chunk, alpha: bytes | None, wide: int, high: int, job: Job) -> tuple[np.ndarray | None, int]:
    """(the pixels, how many rows of them do not depend on what is lost)."""
    import numpy as np

    first: np.ndarray | None = None
    same = np.ones(high, bool)
    compared = 0
    for seed in range(_TRIES):
        job.budget.spend()
        # More than the rows can take: a decoder that comes to the end refuses the picture.
        filling = random.Random(seed).randbytes((wide * high >> 1 << min(seed, 2)) + (1 << 16))
        picture = _decoded(coded.kind, coded.body[: coded.good] + filling, alpha)
        if picture is None:
            continue
        if first is None:
            first = picture
            continue
        for row in range(0, high, _STRIP):
            strip = slice(row, row + _STRIP)
            same[strip] &= (first[strip] == picture[strip]).all(axis=(1, 2))
        del picture
        compared += 1
        if compared == 2:
            break
    if first is None or not compared:
        return None, 0
    return first, high if same.all() else int(np.argmin(same))


def _decoded(kind: bytes, body: bytes, alpha: bytes | None) -> np.ndarray | None:
    """The pixels, rows by columns by 3 or 4; None where a decoder refuses them."""
    import numpy as np
    from PIL import Image

    inner = _chunk(kind, body)
    if alpha is not None and kind == b"VP8 ":
        size = _size(_Chunk(kind, body, len(body), len(body)))
        if not all(size):
            return None
        inner = _with_facts({}, size, 0x10, _chunk(b"ALPH", alpha) + inner)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(_riff(inner)), formats=["WEBP"]) as picture:
                return np.array(picture.convert("RGBA" if picture.mode == "RGBA" else "RGB"))
    except Exception:  # the decoder raises many kinds
        return None


def _chunk(kind: bytes, body: bytes) -> bytes:
    return kind + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)


def _with_facts(rest: dict[bytes, bytes], size: tuple[int, int], flags: int, inner: bytes) -> bytes:
    """Coded pixels with what stands beside them (RFC 9649, 2.7); plain where nothing does."""
    flags |= 0x20 * (b"ICCP" in rest) | 0x08 * (b"EXIF" in rest) | 0x04 * (b"XMP " in rest)
    if not flags:
        return inner
    first = bytes((flags, 0, 0, 0)) + b"".join((min(side, _MOST_SIDE) - 1).to_bytes(3, "little") for side in size)
    before, *behind = (_chunk(kind, rest[kind]) if kind in rest else b"" for kind in _BESIDE)
    return _chunk(b"VP8X", first) + before + inner + b"".join(behind)


def _riff(chunks: bytes) -> bytes:
    return b"RIFF" + struct.pack("<I", len(chunks) + 4) + b"WEBP" + chunks


def _write(out: BinaryIO, picture: np.ndarray, beside: dict[str, Any]) -> None:
    from PIL import Image

    Image.fromarray(picture).save(out, "WEBP", lossless=True, exact=True, method=3, **beside)


def _sequence(chunks: list[_Chunk], frames: list[_Chunk], out: BinaryIO) -> Outcome:
    """The whole pictures of a sequence, as they are."""
    whole = [each for each in frames if each.is_whole and _is_frame(each.body)]
    if not whole:
        raise NothingLeft("not one picture of the sequence is whole")
    rest = {each.kind: each.body for each in chunks if each.is_whole and each.kind not in _CODED}
    first = rest.get(b"VP8X", b"")
    if len(first) >= 10:
        sides = tuple(int.from_bytes(first[at : at + 3], "little") + 1 for at in (4, 7))
    else:
        # As large as its pictures need.
        sides = tuple(max(_far(each.body, at) for each in whole) for at in (0, 3))
    inner = _chunk(b"ANIM", rest.get(b"ANIM", bytes(6))) + b"".join(_chunk(b"ANMF", each.body) for each in whole)
    out.write(_riff(_with_facts(rest, (sides[0], sides[1]), _ANIMATED | (first[0] & 0x10 if first else 0x10), inner)))
    missing = len(frames) - len(whole)
    return Outcome("webp", (Step.FRAMES_KEPT,), (Loss(LossKind.PICTURES, count=missing),) if missing else ())


def _far(frame: bytes, at: int) -> int:
    """How far a picture of a sequence reaches to the right, or down."""
    return 2 * int.from_bytes(frame[at : at + 3], "little") + int.from_bytes(frame[at + 6 : at + 9], "little") + 1


def _is_frame(body: bytes) -> bool:
    """Whether a decoder takes the picture of a sequence."""
    at, alpha = 16, None
    while at + 8 <= len(body):
        kind, length = struct.unpack_from("<4sI", body, at)
        inner = body[at + 8 : at + 8 + length]
        if kind in _CODED:
            return _decoded(kind, inner, alpha) is not None
        alpha = inner if kind == b"ALPH" else alpha
        at += 8 + length + length % 2
    return False
