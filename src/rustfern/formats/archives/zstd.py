"""Zstandard (RFC 8878), by the standard library where that has it (Python 3.14), else by the same code as a package of its own."""

from __future__ import annotations

import io
import sys
from typing import TYPE_CHECKING, Any, BinaryIO

if sys.version_info >= (3, 14):
    from compression import zstd as library
elif TYPE_CHECKING:
    library: Any
else:
    from backports import zstd as library

_BUFFER_BYTES = 1 << 17
MOST_WINDOW = 27
"""Binary logarithm of the memory (bytes) that a stream may ask for."""
ZstdError: type[Exception] = library.ZstdError


class _Reader(io.RawIOBase):
    """The library's stream, whose own error is one that readers of all archives know."""

    def __init__(self, stream: BinaryIO) -> None:
        super().__init__()
        options = {library.DecompressionParameter.window_log_max: MOST_WINDOW}
        self._stream: BinaryIO = library.ZstdFile(stream, "r", options=options)

    def readable(self) -> bool:
        """As `io.RawIOBase.readable`."""
        return True

    def seekable(self) -> bool:
        """As `io.RawIOBase.seekable`."""
        return self._stream.seekable()

    def tell(self) -> int:
        """As `io.RawIOBase.tell`."""
        return self._stream.tell()

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """As `io.RawIOBase.seek`: backwards it begins anew."""
        try:
            return self._stream.seek(offset, whence)
        except ZstdError as error:
            raise ValueError(str(error)) from error

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        """As `io.RawIOBase.readinto`."""
        try:
            data = self._stream.read(len(buffer))
        except ZstdError as error:
            raise ValueError(str(error)) from error
        buffer[: len(data)] = data
        return len(data)


def opened(stream: BinaryIO) -> BinaryIO:
    """What a stream unpacks to, however many frames it has. Reading raises `ValueError` for damage, `EOFError` where it is cut."""
    return io.BufferedReader(_Reader(stream), _BUFFER_BYTES)


def unpacked(data: bytes, most: int) -> bytes:
    """What some bytes unpack to, `most` bytes of it. Raises `ZstdError`."""
    return bytes(library.ZstdDecompressor().decompress(data, max_length=most))
