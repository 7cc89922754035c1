"""Swap files of editors: to the last page that their pointer blocks speak of.

Source: the layout that `rustfern.traces.vim_swap` reads (block 0, pointer blocks `tp`, data blocks `ad`).
"""

from __future__ import annotations

import io
import struct

from rustfern.core.errors import Malformed
from rustfern.formats.extents.interface import Bytes, Reach, broken, within
from rustfern.traces.vim_swap import parse

_MAX_BLOCKS, _MAX_PAGES = 200_000, 1 << 24


def swap(data: Bytes) -> Reach | None:
    """Follow the pointer blocks from the root."""
    try:
        header = parse(io.BytesIO(data[0:4096]))
    except Malformed:
        return None
    if header.lock_only or header.encrypted:
        return None
    page, last = header.page_size, 2
    waiting, seen = [1], set[int]()
    while waiting and len(seen) < _MAX_BLOCKS:
        number = waiting.pop()
        block = data[number * page : (number + 1) * page]
        if number in seen or block[:2] != b"tp" or len(block) < page:
            return broken(min(number * page, len(data)), "a block that lists others is not here", page)
        seen.add(number)
        count, room = struct.unpack_from("<HH", block, 2)
        form, width = ("<qqqi", 32) if room == (page - 8) // 32 else ("<qiii", 24)
        for at in range(8, min(8 + count * width, page - width + 1), width):
            inner, _, _, pages = struct.unpack_from(form, block, at)
            if inner < 0:
                continue  # lines that were never read into it
            if not 0 < pages <= _MAX_PAGES or inner > _MAX_PAGES:
                return broken(number * page, "a block that lists others is damaged", page)
            last = max(last, inner + pages)
            if data[inner * page : inner * page + 2] == b"tp":
                waiting.append(inner)
    return within(data, last * page, page)
