"""Whether pictures can be read with some settings: tried by a decoder, where one is installed, in a process of its own."""

from __future__ import annotations

import io
import sys
from array import array
from collections.abc import Callable, Sequence
from typing import Any

from rustfern.formats.drawn_aside import made_aside
from rustfern.formats.media.frame import can_show
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, box, write

_TRIED, _PATIENCE, _MOST, _ROUNDS = 48, 20, 64 << 20, 8


def plays(
    window: Window, entry: bytes, width: int, height: int, places: Sequence[int], sizes: Sequence[int]
) -> float | None:
    """Share of the first pictures that a decoder reads without complaint; None where none is installed, or it takes too long."""
    count = min(len(places), _TRIED)
    while count > 1 and sum(sizes[:count]) > _MOST:
        count //= 2
    told = complaints(window, entry, width, height, places[:count], sizes[:count])
    return 1 - sum(told) / len(told) if told else None


def complaints(
    window: Window, entry: bytes, width: int, height: int, places: Sequence[int], sizes: Sequence[int]
) -> list[bool] | None:
    """Of each picture whether a decoder complains of it that reads them one after the other; None where none is installed, or it takes too long."""
    count = len(places)
    if not count or sum(sizes) > _MOST or not can_show():
        return None
    track = Written(
        b"vide", entry, 30, width, height, array("Q", places), array("I", sizes), array("I", [1]) * count, array("q", bytes(8 * count)), array("b"),
    )  # fmt: skip
    made = io.BytesIO()
    write(made, window, box(b"ftyp", b"isom\0\0\2\0isom"), [track], lambda: None)
    told = made_aside("rustfern.repair.recordings.trial", made.getvalue(), _PATIENCE)
    return [each != ord("1") for each in told] if told is not None and len(told) == count else None


def spoiled_by_gaps(
    window: Window,
    entry: bytes,
    width: int,
    height: int,
    places: Sequence[int],
    sizes: Sequence[int],
    keys: Sequence[int],
    gaps: Sequence[int],
    *,
    strict: bool,
    pause: Callable[[], None],
) -> set[int]:
    """The pictures behind `gaps` (numbers of those before which some are missing) that cannot be shown without those: of which a decoder complains;
    if `strict`, or where none is installed and it is asked for, all up to the next that needs no other.
    """
    spoiled: set[int] = set()
    count = len(places)
    done = -1
    for gap in sorted(gaps):
        if gap >= count or gap < done:
            continue
        done = next((n for n in range(gap, count) if keys[n]), count)
        if strict:
            spoiled.update(range(gap, done))
            continue
        first = next((n for n in range(gap - 1, -1, -1) if keys[n]), 0)
        for _ in range(_ROUNDS):
            pause()
            left = [n for n in range(first, done) if n not in spoiled]
            told = complaints(window, entry, width, height, [places[n] for n in left], [sizes[n] for n in left])
            worse = {n for n, bad in zip(left, told, strict=True) if bad and n >= gap} if told else set()
            if not worse:
                break
            spoiled |= worse
        else:
            spoiled.update(range(gap, done))
    return spoiled


def main() -> None:
    """The process of its own: a film comes in; of each picture goes out whether it can be read (1) or not (0)."""
    import av
    import av.logging

    av.logging.set_level(av.logging.ERROR)
    told = bytearray()
    try:
        with av.open(io.BytesIO(sys.stdin.buffer.read()), format="mp4") as opened:
            film: Any = opened
            stream = film.streams.video[0]
            stream.codec_context.thread_count = 1
            for packet in film.demux(stream):
                if not packet.size:
                    continue
                with av.logging.Capture() as said:
                    try:
                        packet.decode()
                    except (av.error.FFmpegError, ValueError):
                        said.append((0, "", ""))
                told += b"0" if said else b"1"
    except (av.error.FFmpegError, ValueError, IndexError):
        pass
    sys.stdout.buffer.write(told)


if __name__ == "__main__":
    main()
