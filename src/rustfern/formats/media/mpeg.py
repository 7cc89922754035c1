"""MPEG streams as camcorders and television recorders write them: transport packets to the last, or packs and their packets.

Source: ISO/IEC 13818-1, 2.4.3.2 and 2.4.3.4 (transport packets, their counters), 2.5.3.3 (packs), 2.4.3.6 (packets of the streams).
"""

from __future__ import annotations

from typing import BinaryIO

import numpy as np

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.core.remarks import counted
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.reader import ByteReader
from rustfern.formats.recognised import PACKET, TIMED, packet_length
from rustfern.formats.text_sink import TextSink

_TOGETHER = 40_000
_NOTHING, _PIDS = 0x1FFF, 1 << 13
_PACK, _SYSTEM, _END = 0xBA, 0xBB, 0xB9
_STREAMS = range(0xBC, 0x100)
_HOLE = bytes(2048)
_AHEAD = 4 << 20


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Follow a recording to its end. Raises `Malformed`."""
    head = stream.read(2 * TIMED + 8)
    if head[:4] == b"\0\0\1\xb3":
        raise Refused("pictures without packs around them, which are not followed")
    length = packet_length(head)
    return _transport(stream, size, length) if length else _packs(ByteReader(stream, size))


def _transport(stream: BinaryIO, size: int, length: int) -> Reading:
    begin = length - PACKET
    stream.seek(0)
    at = breaks = hurt = 0
    last = np.full(_PIDS, -1, np.int64)
    rest = b""
    while piece := stream.read(length * _TOGETHER):
        data = rest + piece
        whole = len(data) // length
        rest = data[whole * length :]
        packets = np.frombuffer(data, np.uint8, whole * length).reshape(whole, length)[:, begin:]
        wrong = np.flatnonzero(packets[:, 0] != 0x47)
        if len(wrong):
            raise Malformed("no packet of the recording lies where one should", at + int(wrong[0]) * length)
        hurt += int((packets[:, 1] >> 7).sum())
        breaks += _breaks(packets, last)
        at += whole * length
    if rest:
        raise Malformed("the recording stops inside its last packet", size)
    said = f"read to the end: {size // length} packets, each where it should be"
    if breaks:
        said += f"; at {counted(breaks, 'place')} some are missing, as where reception was poor or it was cut"
    if hurt:
        said += f"; {hurt} of them were received with faults"
    return Reading(Glance(format="mts"), State.INTACT, said, {"packets": size // length}, has_text=False)


def _breaks(
    packets: np.ndarray[tuple[int, int], np.dtype[np.uint8]], last: np.ndarray[tuple[int], np.dtype[np.int64]]
) -> int:
    """Places where the counter of a stream makes a step; `last` holds where each stream's stood, and is brought up to date."""
    pids = (packets[:, 1].astype(np.int64) & 0x1F) << 8 | packets[:, 2]
    is_counted = ((packets[:, 3] & 0x10) > 0) & (pids != _NOTHING)
    told = ((packets[:, 3] & 0x20) > 0) & (packets[:, 4] > 0) & ((packets[:, 5] & 0x80) > 0)  # such a step is announced
    pids, counters, told = pids[is_counted], packets[is_counted, 3].astype(np.int64) & 15, told[is_counted]
    order = np.argsort(pids, kind="stable")
    pids, counters, told = pids[order], counters[order], told[order]
    if not len(pids):
        return 0
    first = np.concatenate([[True], pids[1:] != pids[:-1]])
    before = np.where(first, last[pids], np.concatenate([[0], counters[:-1]]))
    last[pids] = counters  # of several, the last one stays
    step = (counters - before) & 15
    return int(((before >= 0) & (step > 1) & ~told).sum())


def _packs(read: ByteReader) -> Reading:
    at = begun = packs = 0
    held = b""
    while at < read.size:
        if not begun <= at <= at + 16 <= begun + len(held):
            held, begun = read.upto(at, _AHEAD), at
        head = held[at - begun : at - begun + 14]
        kind = head[3] if len(head) > 3 and head[:3] == b"\0\0\1" else -1
        if kind == _PACK and len(head) >= 12:
            newer = head[4] >> 6 == 1
            length = 14 + (head[13] & 7 if len(head) > 13 else 0) if newer else 12
            packs += 1
        elif kind == _END:
            length = 4
        elif kind == _SYSTEM or kind in _STREAMS:
            length = 6 + int.from_bytes(head[4:6], "big")
            if at + length <= read.size and _HOLE in read.upto(at + 6, length - 6):
                raise Malformed("a hole of zeros in the recording", at)
        elif packs and not read.upto(at, _AHEAD).strip(b"\0"):
            break
        else:
            raise Malformed("no packet of the recording lies where one should", at)
        at += length
    if at > read.size:
        raise Malformed("the recording stops inside its last packet", read.size)
    said = f"read to the end: {packs} packs, one behind the other; they carry no sum"
    return Reading(Glance(format="mpg"), State.INTACT, said, {"packs": packs}, has_text=False)
