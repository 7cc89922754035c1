"""Changes of a package's bytes that its sums prove: a transfer as text undone, blocks put back in order, a flipped bit set right.

Source: PKWARE APPNOTE 6.3.10, 4.4.7 (the sum of each member).
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence

from rustfern.repair.deflate_flip import length_flips, packed_flips, stored_flip
from rustfern.repair.deflate_resume import inflate_prefix
from rustfern.repair.interface import Budget, Step
from rustfern.repair.zip_salvage import Held, Salvaged, find_members

_MOST = 32 << 20
_BLOCKS = (4096, 512, 65536, 1024, 2048, 8192, 16384, 32768)
_MAX_TRIES = 600
_MAX_FLIPPED, _SECONDS = 24 << 10, 0.4
_MAX_SEARCHED = 4 << 10
_LONGEST_COPY = 258
_MAX_STORED, _MAX_UNPACKED = 256 << 10, 2 << 20
"""A sum of 32 bits proves one bit of so many, and no more."""


def mended_bytes(held: Held, members: Sequence[Salvaged], budget: Budget) -> tuple[bytes | None, Step | None]:
    """The bytes with the change undone, and which one it was; None where sums prove no change."""
    wrong = [member for member in members if not member.proven]
    if (members and not wrong) or len(held) > _MOST:
        return None, None
    data = held[:]
    proven = sum(member.proven for member in members)
    for undo in (_line_ends, _returns):
        changed = undo(data)
        if changed is not None and sum(member.proven for member in find_members(changed)) > max(proven, 0):
            return changed, Step.TEXT_MODE
    for member in wrong:
        is_cut = not member.ended and member.start + member.length >= len(data)
        if member.sums and member.size and not is_cut and not _zeros(data, member):
            if (changed := _lost_returns(data, member)) is not None:
                return changed, Step.TEXT_MODE
            if (changed := _swapped(data, member, budget.part(2 * _SECONDS))) is not None:
                return changed, Step.BLOCKS
            if (changed := _flipped(data, member, budget.part(8 * _SECONDS))) is not None:
                return changed, Step.BIT
    return None, None


def _line_ends(data: bytes) -> bytes | None:
    """Every line feed had a return put in front of it."""
    if data.count(b"\r\n") < 4 or data.count(b"\n") != data.count(b"\r\n"):
        return None
    return data.replace(b"\r\n", b"\n")


def _returns(data: bytes) -> bytes | None:
    """Every return had a line feed put behind it."""
    if data.count(b"\r\n") < 4 or data.count(b"\r") != data.count(b"\r\n"):
        return None
    return data.replace(b"\r\n", b"\r")


def _zeros(data: bytes, member: Salvaged) -> bool:
    return bytes(512) in data[member.start : member.start + member.length]


def _whole(member: Salvaged, packed: bytes) -> bool:
    """Whether packed bytes unpack to what the member's size and sum say."""
    if member.method == 0:
        return zlib.crc32(packed) in member.sums
    out, _, ended = inflate_prefix(packed, most=(member.size or 0) + 1)
    return ended and len(out) == member.size and zlib.crc32(out) in member.sums


def _lost_returns(data: bytes, member: Salvaged) -> bytes | None:
    """A return was taken away in front of a line feed, at most two times in a member."""
    packed = data[member.start : member.start + member.length]
    ends = [at for at, byte in enumerate(packed) if byte == 10]
    if not 0 < len(ends) <= 400:
        return None
    for at in ends:
        if _whole(member, packed[:at] + b"\r" + packed[at:]):
            return data[: member.start + at] + b"\r" + data[member.start + at :]
    return None


def _swapped(data: bytes, member: Salvaged, budget: Budget) -> bytes | None:
    """Two blocks have changed places: the first one that does not unpack is tried with each other one."""
    packed = data[member.start : member.start + member.length]
    _, used, _ = inflate_prefix(packed)
    tries = 0
    for size in _BLOCKS:
        broken = (member.start + used) // size
        for mine in (broken, broken - 1):
            for other in range(member.start // size, min(len(data), member.start + member.length + size) // size + 1):
                tries += 1
                if other == mine or mine < 0 or (other + 1) * size > len(data) or (mine + 1) * size > len(data):
                    continue
                if tries > _MAX_TRIES or budget.left() < 0:
                    return None
                made = bytearray(data)
                made[mine * size : (mine + 1) * size] = data[other * size : (other + 1) * size]
                made[other * size : (other + 1) * size] = data[mine * size : (mine + 1) * size]
                if _whole(member, bytes(made[member.start : member.start + member.length])):
                    return bytes(made)
    return None


def _flipped(data: bytes, member: Salvaged, budget: Budget) -> bytes | None:
    """One bit has flipped: where what is there has its length, the sum tells which; else every one in front of where it stops to unpack is
    tried, the nearest first."""
    packed = bytearray(data[member.start : member.start + member.length])
    if member.method == 0:
        return _by_sum(data, member, packed, bytes(packed), budget) if len(packed) == member.size else None
    out, used, ended = inflate_prefix(bytes(packed), most=(member.size or 0) + 1)
    if ended and len(out) == member.size:
        changed = _by_sum(data, member, packed, out, budget)
        if changed is not None or len(packed) > _MAX_SEARCHED:
            return changed
    elif ended and 0 < abs(shift := (member.size or 0) - len(out)) <= _LONGEST_COPY and len(out) <= _MAX_UNPACKED:
        places = length_flips(bytes(packed), len(out), shift, budget)
        if (changed := _tried(data, member, packed, places, budget)) is not None:
            return changed
    if len(packed) > _MAX_FLIPPED or (ended and len(packed) > _MAX_SEARCHED):
        return None
    last = len(packed) - 1 if ended else min(used + 1, len(packed) - 1)
    return _try_flips(data, member, packed, range(last, -1, -1), budget)


def _by_sum(data: bytes, member: Salvaged, packed: bytearray, out: bytes, budget: Budget) -> bytes | None:
    size = member.size or 0
    if size > (_MAX_STORED if member.method == 0 else _MAX_UNPACKED):
        return None
    found = zlib.crc32(out)
    for wanted in member.sums:
        if member.method == 0:
            flip = stored_flip(size, wanted ^ found)
            places = [8 * flip[0] + flip[1]] if flip is not None else []
        else:
            places = packed_flips(bytes(packed), out, wanted ^ found, budget)
        if (changed := _tried(data, member, packed, places, budget)) is not None:
            return changed
    return None


def _tried(data: bytes, member: Salvaged, packed: bytearray, places: Sequence[int], budget: Budget) -> bytes | None:
    """The bytes with the first of these bits flipped that makes the member whole."""
    for place in places:
        if budget.left() < 0:
            return None
        packed[place // 8] ^= 1 << place % 8
        if _whole(member, bytes(packed)):
            return data[: member.start] + bytes(packed) + data[member.start + len(packed) :]
        packed[place // 8] ^= 1 << place % 8
    return None


def _try_flips(data: bytes, member: Salvaged, packed: bytearray, places: Sequence[int], budget: Budget) -> bytes | None:
    for at in places:
        if budget.left() < 0:
            return None
        for bit in range(8):
            packed[at] ^= 1 << bit
            if _whole(member, bytes(packed)):
                return data[: member.start + at] + bytes((packed[at],)) + data[member.start + at + 1 :]
            packed[at] ^= 1 << bit
    return None
