"""What was packed by Deflate64, as file managers pack files of more than 2 GB (APPNOTE 4.4.5, method 9), by a library."""

from __future__ import annotations

from collections.abc import Iterator
from typing import BinaryIO

from rustfern.core.errors import Refused

# A kilobyte stands for at most 30 MB: small pieces keep what comes back in bounds.
_IN = 1 << 10


def unpacked(stream: BinaryIO, packed: int, what: str) -> Iterator[bytes]:
    """What the next `packed` bytes of `stream` stand for, piece by piece. Raises `ValueError` and `EOFError` for damage, `Refused` where the
    package is missing; `what` (a part, an archive) is for its message.
    """
    try:
        import inflate64
    except ImportError as error:
        raise Refused(f"{what} is packed by Deflate64, whose package is not installed") from error
    unpack = inflate64.Inflater()
    while packed > 0 and not unpack.eof:
        data = stream.read(min(_IN, packed))
        if not data:
            raise EOFError
        packed -= len(data)
        yield unpack.inflate(data)
    if not unpack.eof:
        raise EOFError
