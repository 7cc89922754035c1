"""Packed files and archives: what unpacks, packed again; of a tar archive every member that is whole.

Source: RFC 1952 (gzip), the .xz file format 1.1, POSIX.1-2017 pax (ustar headers, end of the archive).
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import zlib
from contextlib import suppress
from typing import BinaryIO

from msgspec.structs import replace

from rustfern.core.errors import Malformed
from rustfern.formats.archives.compressed import is_header
from rustfern.formats.archives.sevenzip import SevenArchive
from rustfern.formats.format_table import extension_of
from rustfern.formats.interface import Limits
from rustfern.repair import markup
from rustfern.repair.deflate_resume import inflate_prefix
from rustfern.repair.interface import MAX_HELD_BYTES, Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.xml_mend import first_fault
from rustfern.repair.zip_salvage import Held
from rustfern.repair.zip_writer import ZipWriter

_BLOCK, _GZIP_HEAD, _FINE = 512, 18, 512


def repair_packed(job: Job, out: BinaryIO) -> Outcome:
    """Write a packed file anew: what unpacks of it, closed if it is markup, its whole members if it is an archive. Raises `NothingLeft`."""
    data = job.data()
    plain, kind = unpacked(data)
    if not plain.strip(b"\0"):
        raise NothingLeft("nothing of it can be unpacked")
    lost: list[Loss] = [Loss(LossKind.REST, "", 0, len(plain))]
    steps: list[Step] = [Step.PARTS]
    inner = _inner(job, plain)
    if inner is not None:
        plain, outcome = inner
        lost, steps = list(outcome.lost), [*steps, *outcome.steps]
    if kind == "gz":
        with gzip.GzipFile(fileobj=out, mode="wb", mtime=0) as packer:
            packer.write(plain)
    else:
        out.write(lzma.compress(plain) if kind == "xz" else bz2.compress(plain))
    return Outcome(job.format, tuple(dict.fromkeys(steps)), tuple(lost))


def repair_seven(job: Job, out: BinaryIO) -> Outcome:
    """Write a plain archive (zip) of every member of a 7z archive that its own sum proves whole. Raises `Malformed`."""
    data = job.data()
    archive = SevenArchive(io.BytesIO(data), len(data), Limits())
    if archive.unpacked_bytes > MAX_HELD_BYTES:
        raise NothingLeft("it unpacks to more than is held at once")
    writer, lost = ZipWriter(out), [Loss(LossKind.FORMAT, "a plain archive (zip)")]
    for number in range(archive.runs):
        plain = bytearray()
        with suppress(Malformed):
            for piece in archive.run(number, _FINE):
                job.budget.spend()
                plain += piece
        for file in archive.files:
            if file.run != number:
                continue
            member = bytes(plain[file.at : file.at + file.size])
            if len(member) == file.size and file.crc == zlib.crc32(member) and file.name not in writer.names:
                writer.add(file.name, member)
            else:
                lost.append(Loss(LossKind.MEMBERS, file.name, 1))
    if not writer.names:
        raise NothingLeft("no member of it proves whole")
    for file in archive.files:
        if file.run is None and not file.is_folder and file.name not in writer.names:
            writer.add(file.name, b"")
    writer.close()
    return Outcome("zip", (Step.PARTS,), tuple(lost))


def unpacked(data: bytes) -> tuple[bytes, str]:
    """(what packed bytes unpack to as far as they go, how they are packed). Raises `NothingLeft` for others."""
    if data[:3] == b"\x1f\x8b\x08" and len(data) > _GZIP_HEAD:
        at = 10
        if data[3] & 4:
            at += 2 + int.from_bytes(data[at : at + 2], "little")
        for flag in (8, 16):
            if data[3] & flag:
                at = data.find(b"\0", at) + 1
        at += 2 if data[3] & 2 else 0
        out, used, ended = inflate_prefix(data[at:], most=MAX_HELD_BYTES)
        sums = data[at + used : at + used + 8]
        if not (ended and sums[:4] == zlib.crc32(out).to_bytes(4, "little")) and b"<?xml" in out[:64]:
            # What follows a wrong bit unpacks to wrong copies of what stands before it.
            fault = first_fault(out)
            out = out if fault is None else out[:fault]
        return out, "gz"
    if data[:6] == b"\xfd7zXZ\0" or data[:1] == b"]":
        return _pieces(lzma.LZMADecompressor(memlimit=256 << 20), data), "xz"
    if data[:3] == b"BZh":
        return _pieces(bz2.BZ2Decompressor(), data), "bz2"
    raise NothingLeft("it does not begin like a packed file")


def _pieces(unpack: lzma.LZMADecompressor | bz2.BZ2Decompressor, data: bytes) -> bytes:
    out = bytearray()
    step = 1 << 10
    for at in range(0, len(data), step):
        try:
            piece = unpack.decompress(data[at : at + step], MAX_HELD_BYTES - len(out))
        except (lzma.LZMAError, OSError, EOFError, ValueError):
            break
        out += piece
        if unpack.eof or len(out) >= MAX_HELD_BYTES:
            break
    return bytes(out)


def _inner(job: Job, plain: bytes) -> tuple[bytes, Outcome] | None:
    """What was packed, put together again by its own kind, if there is one that cannot do without its end."""
    made = io.BytesIO()
    name = job.name.rpartition(".")[0] if extension_of(job.name) in ("gz", "xz", "bz2") else job.name
    inner = replace(job, stream=io.BytesIO(plain), size=len(plain), name=name)
    try:
        if is_header(plain[:_BLOCK]):
            return _made(repair_tar(inner, made), made)
        if plain.lstrip()[:5] == b"<?xml" or plain.lstrip()[:4] == b"<svg":
            mend = markup.repair_svg if b"<svg" in plain[:4096] else markup.repair_xml
            return _made(mend(inner, made), made)
    except Malformed:
        return None
    return None


def _made(outcome: Outcome, made: io.BytesIO) -> tuple[bytes, Outcome]:
    return made.getvalue(), outcome


def repair_tar(job: Job, out: BinaryIO) -> Outcome:
    """Write an archive of the members that are whole. Raises `NothingLeft`."""
    lost: list[Loss] = []
    data = job.whole()
    at, kept, waiting = 0, 0, b""
    while at + _BLOCK <= len(data):
        job.budget.spend()
        head = bytes(data[at : at + _BLOCK])
        if not is_header(head):
            following = _next_header(data, at + _BLOCK)
            if head.strip(b"\0"):
                lost.append(Loss(LossKind.MEMBERS, "", 0, at, following if following is not None else len(data)))
            if following is None:
                break
            at, waiting = following, b""
            continue
        size = _size(head)
        end = at + _BLOCK + -(-size // _BLOCK) * _BLOCK
        if at + _BLOCK + size > len(data):
            name = head[:100].partition(b"\0")[0].decode("utf-8", "replace")
            lost.append(Loss(LossKind.MEMBERS, name, 1, at))
            following = _next_header(data, at + _BLOCK)
            if following is None:
                break
            at, waiting = following, b""
            continue
        block = bytes(data[at : at + _BLOCK + size]).ljust(end - at, b"\0") if size < 1 << 20 else None
        if head[156:157] in (b"x", b"g", b"L", b"K") and block is not None:
            waiting += block
        else:
            out.write(waiting)
            waiting = b""
            for place in range(at, end, 1 << 20):
                out.write(data[place : min(place + (1 << 20), end)])
            out.write(bytes(max(end - len(data), 0)))
            kept += 1
        at = end
    out.write(bytes(2 * _BLOCK))
    if not kept:
        raise NothingLeft("no member of the archive is whole")
    if not lost:
        lost.append(Loss(LossKind.MEMBERS))
    return Outcome(job.format, (Step.MEMBERS,), tuple(lost))


def _size(head: bytes) -> int:
    raw = head[124:136]
    if raw[0] & 0x80:
        return int.from_bytes(raw[1:], "big")
    try:
        return int(raw.strip(b"\0 ") or b"0", 8)
    except ValueError:
        return 0


def _next_header(data: Held, start: int) -> int | None:
    for at in range(start, len(data) - _BLOCK + 1, _BLOCK):
        if data[at] and is_header(bytes(data[at : at + _BLOCK])):
            return at
    return None
