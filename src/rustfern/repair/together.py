"""Two damaged copies of one file put together, where all that both have is the same: each fills what the other lacks.

A copy lacks what lies behind its end, and every block that is plain zeros in it and something else in the other.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

_BLOCK = 512
_LEAST_COMMON = 8
_LEAST_SHARE = 0.05


def together(data: bytes, others: Sequence[bytes]) -> bytes | None:
    """What both have put together; None where no other copy proves to be of the same bytes, or none adds anything."""
    now = data
    for other in others:
        if (joined := _joined(now, other)) is not None:
            now = joined
    return now if now != data else None


def _joined(mine: bytes, theirs: bytes) -> bytes | None:
    length = min(len(mine), len(theirs)) // _BLOCK * _BLOCK
    if length < _BLOCK * _LEAST_COMMON:
        return None
    first = np.frombuffer(mine, "u1", length).reshape(-1, _BLOCK)
    second = np.frombuffer(theirs, "u1", length).reshape(-1, _BLOCK)
    mine_there: NDArray[np.bool_] = np.asarray(first.any(axis=1))
    theirs_there: NDArray[np.bool_] = np.asarray(second.any(axis=1))
    both: NDArray[np.bool_] = mine_there & theirs_there
    same: NDArray[np.bool_] = np.asarray((first == second).all(axis=1))
    # A block at the border of a hole is zeros in part: it may differ where one of them is zeros.
    border: NDArray[np.bool_] = np.asarray(((first == second) | (first == 0) | (second == 0)).all(axis=1))
    if both.sum() < max(_LEAST_COMMON, _LEAST_SHARE * len(both)) or not border[both].all() or same[both].mean() < 0.9:
        return None
    out = np.where(mine_there[:, None], np.where(first == 0, second, first), second).tobytes()
    rest = max(mine, theirs, key=len)[length:]
    shorter = min(mine, theirs, key=len)[length:]
    if rest[: len(shorter)].strip(b"\0") == b"" and shorter.strip(b"\0"):
        rest = shorter + rest[len(shorter) :]
    return out + rest
