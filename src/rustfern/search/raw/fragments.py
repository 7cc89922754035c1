"""Documents in pieces."""

from __future__ import annotations

from collections.abc import Callable

from rustfern.search.raw.examine import Looker
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free


class Joiner:
    def __init__(self, looker: Looker, free: Free, grain: Callable[[int], tuple[int, int]]) -> None:
        self.looker, self.free, self.grain = looker, free, grain

    def join(self, offset: int, head: bytes, *, is_text: bool) -> RawFind | None:
        return None
