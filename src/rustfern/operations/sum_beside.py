"""The sum of a large file while it is still written: another thread reads what is there already, as hashing takes longer than writing."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Iterable
from threading import Condition, Thread
from typing import Any, BinaryIO

_WORTH_IT, _STEP, _CHUNK = 64 << 20, 16 << 20, 1 << 20
"""Bytes from which on a thread is begun, after how many more it is told, and how many are read at a time."""


class SumBeside:
    """A file that is written from its beginning to its end. `again` opens it for reading. Whoever goes back in it is not followed any more."""

    def __init__(self, out: BinaryIO, again: Callable[[], BinaryIO]) -> None:
        self._out, self._again = out, again
        self._written = self._ready = self._read = 0
        self._in_order, self._ended = True, False
        self._changed = Condition()
        self._thread: Thread | None = None
        self._sum: str | None = None

    def __getattr__(self, name: str) -> Any:
        return getattr(self._out, name)

    def write(self, data: bytes) -> int:
        """Write, and have what is there summed."""
        count = self._out.write(data)
        self._written += count
        if self._in_order and self._written - self._ready >= (_STEP if self._thread else _WORTH_IT):
            self._tell()
        return count

    def writelines(self, lines: Iterable[bytes]) -> None:
        """Write one after the other."""
        for line in lines:
            self.write(line)

    def seek(self, *where: int) -> int:
        """Go elsewhere."""
        self._in_order = False
        return self._out.seek(*where)

    def truncate(self, size: int | None = None) -> int:
        """Cut it off."""
        self._in_order = False
        return self._out.truncate(size)

    def _tell(self) -> None:
        self._out.flush()
        with self._changed:
            self._ready = self._written
            self._changed.notify()
        if self._thread is None:
            self._thread = Thread(target=self._follow, daemon=True)
            self._thread.start()

    def __enter__(self) -> SumBeside:
        return self

    def __exit__(self, failed: type[BaseException] | None, *_: object) -> None:
        """Nothing more is written. Where it failed, nobody reads it any more when this returns."""
        is_whole = False
        try:
            self._out.flush()
            is_whole = failed is None and self._in_order and self._out.tell() == self._written
        finally:
            with self._changed:
                self._in_order, self._ready, self._ended = is_whole, self._written, True
                self._changed.notify()
            if not is_whole and self._thread is not None:
                self._thread.join()

    def sum(self) -> str | None:
        """The SHA-256 of all of it in hexadecimal, waited for; None where nobody followed it to its end."""
        if self._thread is None or not self._in_order:
            return None
        self._thread.join()
        return self._sum

    def _is_more(self) -> bool:
        return self._ready > self._read or self._ended or not self._in_order

    def _follow(self) -> None:
        digest = hashlib.sha256()
        # Whoever asks for the sum and gets none reads the file again.
        with contextlib.suppress(Exception), self._again() as stream:
            while True:
                with self._changed:
                    self._changed.wait_for(self._is_more)
                    ready, is_last = self._ready, self._ended
                while self._read < ready and self._in_order:
                    piece = stream.read(min(_CHUNK, ready - self._read))
                    if not piece:
                        return
                    digest.update(piece)
                    self._read += len(piece)
                if not self._in_order:
                    return
                if is_last:
                    self._sum = digest.hexdigest()
                    return
