"""What a way to put a document together is."""

from __future__ import annotations

Cuts = tuple[list[tuple[int, int]], int]
"""Where a document goes over to another shift, in order: (place of the document, shift); and its size."""
MAX_MEMBERS, MAX_STEPS = 20_000, 4_000
