"""Results that are kept as long as there is room: by the size of what they were made of, not by their number."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from functools import wraps
from typing import ParamSpec, TypeVar

_P = ParamSpec("_P")
_T = TypeVar("_T")
ROOM_BYTES = 4 << 20
"""Bytes of texts (as word hashes) whose results are kept."""


def remembered(function: Callable[_P, _T]) -> Callable[_P, _T]:
    """Keep results for arguments that are bytes; the oldest go first. One that takes more than half of the room is not kept."""
    known: OrderedDict[tuple[object, ...], _T] = OrderedDict()
    used = 0

    def cost(key: tuple[object, ...]) -> int:
        return sum(len(each) for each in key if isinstance(each, bytes))

    @wraps(function)
    def call(*args: _P.args, **kwargs: _P.kwargs) -> _T:
        nonlocal used
        key = args
        if key in known:
            known.move_to_end(key)
            return known[key]
        result = function(*args, **kwargs)
        size = cost(key)
        if size <= ROOM_BYTES // 2:
            known[key] = result
            used += size
            while used > ROOM_BYTES:
                used -= cost(known.popitem(last=False)[0])
        return result

    return call
