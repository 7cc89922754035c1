"""How fast is read from other machines: no faster than somebody allowed, so that others can still work on the same line."""

from __future__ import annotations

import threading
import time

_AHEAD_SECONDS = 0.1
"""What comes may be so much ahead of the pace: an answer is not held back for a few bytes."""


class Pace:
    """Holds back whoever reads, all connections of one session together. `limit` is in bytes a second; 0: nobody is held back."""

    def __init__(self, limit: int = 0) -> None:
        self.limit = limit
        self._lock = threading.Lock()
        self._due = 0.0

    def take(self, count: int) -> None:
        """So many bytes came: wait until they may have."""
        if not self.limit:
            return
        with self._lock:
            now = time.monotonic()
            self._due = max(self._due, now) + count / self.limit
            ahead = self._due - now - _AHEAD_SECONDS
        if ahead > 0:
            time.sleep(ahead)
