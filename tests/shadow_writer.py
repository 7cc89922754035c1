"""A stand-in for the system that makes shadow copies: writes states of a volume into its present one, as the published format lays them out."""

from __future__ import annotations

import struct
import uuid
from collections.abc import Sequence
from datetime import UTC, datetime

BLOCK, FILL = 0x4000, b"\x5a"
"""What is laid where: in a file of the volume that holds nothing but this."""
_IDENT = bytes.fromhex("6b87083876c1484eb7ae04046e6cc752")
Row = tuple[int, int, int, int, int]
"""Block, relative place, place, flags, bitmap of sectors."""


def _block(kind: int, at: int, following: int, body: bytes) -> bytes:
    return (_IDENT + struct.pack("<IIQQQ", 2, kind, at, at, following)).ljust(128, b"\0") + body.ljust(
        BLOCK - 128, b"\0"
    )


def _ticks(when: datetime) -> int:
    return int((when - datetime(1601, 1, 1, tzinfo=UTC)).total_seconds()) * 10**7


class ShadowWriter:
    """Collects stores, the oldest first, and lays them into the file that is set aside for them."""

    def __init__(self, states: Sequence[bytes]) -> None:
        """`states` are the volume at each time, the present one last."""
        self.volume = bytearray(states[-1])
        self._free = [
            at
            for at in range(0, len(self.volume), BLOCK)
            if all(state[at : at + BLOCK] == FILL * BLOCK for state in states)
        ]
        self._entries: list[bytes] = []

    def take(self, data: bytes = b"") -> int:
        """A free block with these bytes."""
        at = self._free.pop()
        self.volume[at : at + len(data)] = data
        return at

    def add(self, taken: datetime, rows: Sequence[Row], per_block: int = 400) -> None:
        """A store with these rows; lists go on in further blocks behind so many rows."""
        following = 0
        for start in reversed(range(0, max(len(rows), 1), per_block)):
            at = self.take()
            body = b"".join(struct.pack("<QQQII", *row) for row in rows[start : start + per_block])
            self.volume[at : at + BLOCK] = _block(3, at, following, body)
            following = at
        ident = uuid.uuid5(uuid.NAMESPACE_OID, f"{taken}").bytes_le
        self._entries.append(
            struct.pack("<QQ16sQQQ", 2, len(self.volume), ident, len(self._entries) + 1, 0x40, _ticks(taken)).ljust(
                128, b"\0"
            )
        )
        self._entries.append(struct.pack("<QQ16sQQQ", 3, following, ident, self.take(), 0, 0).ljust(128, b"\0"))

    def keep(self, taken: datetime, then: bytes, later: bytes) -> None:
        """A store that keeps what the next state wrote over."""
        changed = [at for at in range(0, len(then), BLOCK) if then[at : at + BLOCK] != later[at : at + BLOCK]]
        self.add(taken, [(at, 0x10, self.take(then[at : at + BLOCK]), 0, 0) for at in changed])

    def finished(self) -> bytes:
        """The volume, with its catalogue; its newest entry first."""
        at = self.take()
        self.volume[at : at + BLOCK] = _block(2, at, 0, b"".join(reversed(self._entries)))
        head = (_IDENT + struct.pack("<IIQQQQQ", 2, 1, 0x1E00, 0, 0, at, 0)).ljust(512, b"\0")
        self.volume[0x1E00:0x2000] = head
        return bytes(self.volume)
