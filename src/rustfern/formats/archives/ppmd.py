"""What was packed by PPMd: in ZIP archives (variant I) and in 7z archives (variant H), by a library.

Source: APPNOTE 5.10 (order, memory and method of restoring in the first two bytes); 7zFormat.txt and the methods beside it (order and memory
in five bytes of properties).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import BinaryIO, Protocol, cast

from rustfern.core.errors import Refused

_MOST_MEMORY = 256 << 20
_IN, _OUT = 1 << 16, 1 << 18


class _Decoder(Protocol):
    @property
    def eof(self) -> bool: ...
    @property
    def needs_input(self) -> bool: ...
    def decode(self, data: bytes, length: int) -> bytes: ...


def unpacked(stream: BinaryIO, packed: int, size: int, properties: bytes | None, what: str) -> Iterator[bytes]:
    """The `size` bytes that the next `packed` bytes of `stream` stand for, in pieces; fewer where they do not hold as many. `properties` are
    the five bytes of a 7z archive; None: a member of a ZIP archive, whose own two bytes stand first. `what` (a part, an archive) is for
    messages. Raises `ValueError` for damage, `Refused` for what needs more memory than an archive of documents does or where the package is
    missing.
    """
    try:
        import pyppmd
    except ImportError as error:
        raise Refused(f"{what} is packed by PPMd, whose package is not installed") from error
    if properties is None:
        own = stream.read(2)
        if packed < 2 or len(own) < 2:
            raise ValueError("its settings are missing")
        settings = int.from_bytes(own, "little")
        order, memory, restoring = (settings & 15) + 1, (settings >> 4 & 255) + 1 << 20, settings >> 12
        if order < 2 or restoring > 2:
            raise ValueError("its settings are impossible")
        packed -= 2
    else:
        if len(properties) != 5:
            raise ValueError("its settings are impossible")
        order, memory = struct.unpack("<BI", properties)
        if not (2 <= order <= 64 and memory >= 1 << 11):
            raise ValueError("its settings are impossible")
    if memory > _MOST_MEMORY:
        raise Refused(f"unpacking {what} would need more memory than any archive of documents does: refused")
    decoder = cast(
        _Decoder,
        pyppmd.Ppmd8Decoder(order, memory, restoring) if properties is None else pyppmd.Ppmd7Decoder(order, memory),
    )
    while size > 0 and not decoder.eof:
        data = b""
        if decoder.needs_input:
            data = stream.read(min(_IN, packed))
            packed -= len(data)
            if not data:
                return
        piece = decoder.decode(data, min(_OUT, size))
        size -= len(piece)
        if piece:
            yield piece
