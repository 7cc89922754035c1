"""Older CDR drawings: RIFF chunks that fill the file."""

from __future__ import annotations

from typing import BinaryIO, Literal

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink


class RiffDrawing:
    """Older CDR drawings: RIFF chunks, nested lists among them. Source: the RIFF part of RFC 2361's references (chunk, size, padding)."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.9 if head[:4] in (b"RIFF", b"RIFX") and head[8:11] in (b"CDR", b"cdr") else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        return Glance(format="cdr")

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        head = stream.read(12)
        order: Literal["little", "big"] = "little" if head[:4] == b"RIFF" else "big"
        end = 8 + int.from_bytes(head[4:8], order)
        if end > size:
            raise Malformed(f"the drawing stops after {size} of {end} bytes", size)
        read = ByteReader(stream, size, "the drawing stops inside {}", order)
        at, chunks = 12, 0
        while at + 8 <= end:
            length = read.number(at + 4, 4, "a chunk")
            if at + 8 + length > end:
                raise Malformed("a chunk of the drawing reaches beyond its end", at)
            at += 8 + length + length % 2
            chunks += 1
        if not chunks:
            raise Malformed("the drawing holds no chunk", 12)
        reason = f"its {chunks} chunks fill it to the end; the drawing in them cannot be verified further"
        return Reading(Glance(format="cdr"), State.INTACT, reason, has_text=False)
