"""Whether pictures can be read with some settings: tried by a decoder, where one is installed, in a process of its own."""

from __future__ import annotations

import io
import sys
from array import array
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec

from rustfern.formats.drawn_aside import made_aside
from rustfern.formats.media.frame import can_show
from rustfern.repair.interface import Budget
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, box, write

_TRIED, _PATIENCE, _MOST = 48, 20, 64 << 20
_BAD, _GOOD, _COMPLETED = b"012"


def _patience(budget: Budget) -> float:
    """Seconds that a decoder may take. Raises `NothingLeft` where the time is over."""
    budget.spend()
    return min(_PATIENCE, max(budget.left(), 0.5))


class Tried(msgspec.Struct, frozen=True):
    """Of each picture whether a decoder complained of it, reading them one after the other, and whether it made up a part of it; how many it showed."""

    complaints: tuple[bool, ...]
    completed: tuple[bool, ...]
    shown: int


def plays(
    window: Window, entry: bytes, width: int, height: int, places: Sequence[int], sizes: Sequence[int], budget: Budget
) -> float | None:
    """Share of the first pictures that a decoder reads without complaint; None where none is installed, or it takes too long."""
    count = min(len(places), _TRIED)
    while count > 1 and sum(sizes[:count]) > _MOST:
        count //= 2
    told = tried(window, entry, width, height, places[:count], sizes[:count], budget)
    return 1 - sum(map(max, told.complaints, told.completed)) / count if told is not None else None


def tried(
    window: Window, entry: bytes, width: int, height: int, places: Sequence[int], sizes: Sequence[int], budget: Budget
) -> Tried | None:
    """What a decoder makes of pictures one after the other; None where none is installed, or it takes too long."""
    count = len(places)
    if not count or sum(sizes) > _MOST or not can_show():
        return None
    track = Written(
        b"vide", entry, 30, width, height, array("Q", places), array("I", sizes), array("I", [1]) * count, array("q", bytes(8 * count)), array("b"),
    )  # fmt: skip
    made = io.BytesIO()
    write(made, window, box(b"ftyp", b"isom\0\0\2\0isom"), [track], lambda: None)
    told = made_aside("rustfern.repair.recordings.trial", made.getvalue(), _patience(budget))
    flags, _, shown = (told or b"").partition(b" ")
    if len(flags) != count or not shown.isdigit():
        return None
    return Tried(tuple(each == _BAD for each in flags), tuple(each == _COMPLETED for each in flags), int(shown))


def by_each(pictures: Sequence[bytes], settings: Sequence[bytes]) -> bytes:
    """What asks the process of its own whether pictures of H.264 can be read with each of some settings (what stands in an avcC box)."""
    told = [b"each", len(pictures).to_bytes(4, "big")]
    for each in (*pictures, *settings):
        told += [len(each).to_bytes(4, "big"), each]
    return b"".join(told)


def main() -> None:
    """The process of its own: a film comes in; of each picture goes out whether it can be read (1), in part (2) or not (0), and how many are shown. Behind the
    word `each` pictures come in and settings (`by_each`): of each of these goes out whether all pictures can be read with them.
    """
    import av.logging

    av.logging.set_level(av.logging.INFO)
    data = sys.stdin.buffer.read()
    if data[:4] != b"each":
        told, shown = _read(data)
        sys.stdout.buffer.write(told + b" %d" % shown)
        return
    parts, at = list[bytes](), 8
    while at < len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        parts.append(data[at + 4 : at + 4 + length])
        at += 4 + length
    count = int.from_bytes(data[4:8], "big")
    for settings in parts[count:]:
        sys.stdout.buffer.write(b"1 " if _is_read_by(parts[:count], settings) else b"0 ")


def _is_read_by(pictures: Sequence[bytes], settings: bytes) -> bool:
    """Whether pictures can be read with some settings, and are shown."""
    import av
    import av.codec.context

    shown = 0
    try:
        decoder: Any = av.CodecContext.create("h264", "r")
        decoder.extradata = settings
        decoder.thread_count = 1
        decoder.flags |= av.codec.context.Flags.output_corrupt
        for picture in pictures:
            read, count = _shown(partial(decoder.decode, av.Packet(picture)))
            if read != _GOOD:
                return False
            shown += count
        return shown > 0 or bool(decoder.decode(None))
    except (av.error.FFmpegError, ValueError):
        return False


def _shown(decode: Callable[[], Sequence[object]]) -> tuple[int, int]:
    """(how a decoder reads a packet, how many pictures it shows then)."""
    import av
    import av.logging

    count = 0
    with av.logging.Capture() as said:
        try:
            count = len(decode())
        except (av.error.FFmpegError, ValueError):
            said.append((0, "", ""))
    if any(level <= av.logging.ERROR for level, _, _ in said):
        return _BAD, count
    # That it made up what is missing of a picture, it only mentions.
    return _COMPLETED if any("concealing" in text for _, _, text in said) else _GOOD, count


def _read(data: bytes) -> tuple[bytes, int]:
    """(of each picture whether it can be read, how many are shown) of a film."""
    import av
    import av.codec.context
    import av.logging

    told, shown = bytearray(), 0
    try:
        with av.open(io.BytesIO(data), format="mp4") as opened:
            film: Any = opened
            stream = film.streams.video[0]
            stream.codec_context.thread_count = 1
            # Players show what builds on lost pictures too.
            stream.codec_context.flags |= av.codec.context.Flags.output_corrupt
            for packet in film.demux(stream):
                read, count = _shown(packet.decode)
                shown += count
                if packet.size:
                    told.append(read)
    except (av.error.FFmpegError, ValueError, IndexError):
        pass
    return bytes(told), shown


if __name__ == "__main__":
    main()
