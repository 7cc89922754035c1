"""Pictures inside binary office documents: each one's own bytes, by its own format.

Source: [MS-ODRAW] 2.2.20 to 2.2.32 (OfficeArtBStoreDelay, OfficeArtFBSE, OfficeArtBlip records, OfficeArtMetafileHeader); [MS-PPT] 2.1.3 (the stream
Pictures); [MS-DOC] 2.9.190 and 2.9.192 (PICF, PICFAndOfficeArtData in the stream Data). What cannot be followed is not judged.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.interface import DEFAULT_LIMITS
from rustfern.formats.paged_bytes import HELD, Data, unpack

_ENTRY, _ENTRY_BYTES = 0xF007, 36
_METAFILES = {0xF01A: 0x3D4, 0xF01B: 0x216, 0xF01C: 0x542}
_PIXELS = {0xF01D: (0x46A, 0x6E2), 0xF01E: (0x6E0,), 0xF029: (0x6E2,), 0xF02A: (0x46A, 0x6E2)}
"""Kinds of pictures, and the instances that have one identifier of 16 bytes in front; one more than that has two."""
_UID, _HEADER_BYTES, _DEFLATED = 16, 34, 0
_CONTAINER, _MAX_DEPTH = 0xF, 8
_PICF_BYTES, _NAMED = 68, 0x66
_ZEROS = bytes(16)
_CHUNK = 1 << 20


def check_stored(data: Data) -> None:
    """The stream Pictures of a presentation: one record behind the other. Raises `Malformed` for a picture that is not whole."""
    for kind, instance, begin, end in _records(data, 0, len(data)):
        _blip(data, kind, instance, begin, end)


def check_inline(data: Data) -> None:
    """The stream Data of a text: pictures that stand in its lines. Raises `Malformed` for one that is not whole."""
    at = 0
    while at + _PICF_BYTES <= len(data):
        length, header, mode = unpack("<IHH", data, at)
        if header != _PICF_BYTES or length < header or at + length > len(data):
            return
        start = at + header
        if mode == _NAMED and start < at + length:
            start += 1 + data[start]
        _within(data, start, at + length, 0)
        at += length


def _records(data: Data, at: int, end: int) -> Iterator[tuple[int, int, int, int]]:
    """(kind, instance, begin, end) of the records in a row, as far as they follow one another."""
    while at + 8 <= end:
        version, kind, length = unpack("<HHI", data, at)
        if at + 8 + length > end or kind >> 12 != 0xF:
            return
        yield kind, version >> 4, at + 8, at + 8 + length
        at += 8 + length


def _within(data: Data, at: int, end: int, depth: int) -> None:
    for kind, instance, begin, finish in _records(data, at, end):
        if kind in _METAFILES or kind in _PIXELS:
            _blip(data, kind, instance, begin, finish)
        elif kind == _ENTRY and finish - begin > _ENTRY_BYTES:
            _within(data, begin + _ENTRY_BYTES + data[begin + 33], finish, depth + 1)
        elif data[begin - 8] & 0xF == _CONTAINER and depth < _MAX_DEPTH:
            _within(data, begin, finish, depth + 1)


def _blip(data: Data, kind: int, instance: int, begin: int, end: int) -> None:
    """One picture."""
    if kind in _METAFILES:
        at = begin + _UID * (2 if instance == _METAFILES[kind] + 1 else 1)
        if end - at > _HEADER_BYTES:
            size, packed = unpack("<I24xI", data, at)
            at += _HEADER_BYTES
            if data[at - 2] == _DEFLATED and at + packed <= end:
                _inflate(data[at : at + packed], size, begin)
    elif kind in _PIXELS:
        at = begin + _UID * (1 if instance in _PIXELS[kind] else 2) + 1
        if end - at <= HELD:
            _pixels(data[at:end], begin)


def _inflate(packed: bytes, size: int, at: int) -> None:
    inflate = zlib.decompressobj()
    left = min(size, DEFAULT_LIMITS.large) + 1
    try:
        while left > 0 and not inflate.eof and packed:
            left -= len(inflate.decompress(packed, min(left, _CHUNK)))
            packed = inflate.unconsumed_tail
        if left < min(size, DEFAULT_LIMITS.large) + 1 and not packed and not inflate.eof:
            raise Malformed("a picture in it stops before its end", at)
    except zlib.error as error:
        raise Malformed("a picture in it is damaged", at) from error


def _pixels(picture: bytes, at: int) -> None:
    from rustfern.formats.office.embedded import check_picture

    if len(picture) > len(_ZEROS) and picture.startswith(_ZEROS):
        raise Malformed("zeros where a picture in it should be", at)
    try:
        check_picture(picture)
    except Refused:
        return
    except Malformed as error:
        raise Malformed(f"a picture in it is damaged: {error.reason}", at) from error
