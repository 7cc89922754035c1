"""Compound files put together again, by what lies in them.

Source: [MS-CFB]; [MS-OXMSG] 2.1 and 2.4 (messages); the main streams by [MS-DOC], [MS-XLS] and [MS-PPT].
"""

from __future__ import annotations

import io
import struct
from typing import BinaryIO

from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.repair import doc, ppt, xls
from rustfern.repair.compound_salvage import CompoundSalvage
from rustfern.repair.compound_writer import compound
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

_MOST_BYTES = 64 << 20
_PROPERTIES = "__properties_version1.0"
_UNICODE, _BYTES, _BINARY = 0x1F, 0x1E, 0x102
_BOOKS = (b"\x09\x08\x10\x00\x00\x06\x05\x00", b"\x09\x08\x08\x00\x00\x05\x05\x00")
_SLIDES = (b"\x0f\x00\xe8\x03",)


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a whole document. Raises `NothingLeft`."""
    found = CompoundSalvage(job.data(_MOST_BYTES))
    kind = _kind(found, job)
    if "EncryptedPackage" in {path.rpartition("/")[2] for path in found.streams}:
        raise NothingLeft("it is protected by a password: it can be repaired only when it was opened with it")
    if kind == "doc":
        made, outcome = doc.repair(job, found)
    elif kind == "xls":
        made, outcome = xls.repair(job, found)
    elif kind == "ppt":
        made, outcome = ppt.repair(job, found)
    elif kind == "msg":
        made, outcome = _message(job, found)
    else:
        made, outcome = _as_it_is(job, found)
    out.write(made)
    return outcome


def _kind(found: CompoundSalvage, job: Job) -> str:
    for name, kind in (
        ("WordDocument", "doc"),
        ("Workbook", "xls"),
        ("Book", "xls"),
        ("PowerPoint Document", "ppt"),
        (_PROPERTIES, "msg"),
    ):
        if found.find(name) is not None:
            return kind
    for signs, kind in (((b"\xec\xa5",), "doc"), (_BOOKS, "xls"), (_SLIDES, "ppt")):
        if found.by_first_bytes(*signs) is not None:
            return kind
    return {"dot": "doc", "xlt": "xls", "pps": "ppt", "pot": "ppt"}.get(job.format, job.format)


def _message(job: Job, found: CompoundSalvage) -> tuple[bytes, Outcome]:
    """A message: each property that is there, as far as it goes; the lists of properties name no others."""
    streams: dict[str, bytes] = {}
    lost = []
    for path, stream in found.streams.items():
        if stream.data:
            streams[path] = stream.data
        if not stream.whole:
            lost.append(Loss(LossKind.REST, path, 0, len(stream.data)))
    if _PROPERTIES not in streams and "__nameid_version1.0/" not in "".join(streams):
        streams[_PROPERTIES] = bytes(32)
    folders = sorted({path.rpartition("/")[0] for path in streams})
    for folder in folders:
        if folder.startswith("__nameid"):
            continue
        prefix = f"{folder}/" if folder else ""
        name = prefix + _PROPERTIES
        streams[name] = _properties(
            streams.get(name, b""), prefix, streams, 32 if not folder else 8 if "/" not in folder else 24
        )
    head = streams[_PROPERTIES]
    counts = [
        sum(folder.startswith(sign) and "/" not in folder for folder in folders)
        for sign in ("__recip_version1.0_#", "__attach_version1.0_#")
    ]
    told = struct.unpack_from("<II", head.ljust(32, b"\0"), 16)
    if told[1] > counts[1]:
        lost.append(Loss(LossKind.PARTS, "attachments", told[1] - counts[1]))
    # The next numbers, and how many receivers and attachments there are ([MS-OXMSG] 2.4.1.1).
    head = head[:8].ljust(8, b"\0") + struct.pack("<IIII", *counts, *counts) + head[24:32].ljust(8, b"\0") + head[32:]
    streams[_PROPERTIES] = head
    if not any("__substg1.0_" in path for path in streams):
        raise NothingLeft("no property of the message is left")
    return compound(streams), Outcome("msg", (Step.CHAINS, Step.CONTAINER), tuple(lost))


def _properties(raw: bytes, prefix: str, streams: dict[str, bytes], head: int) -> bytes:
    """A list of properties with the lengths of those that are there, without those that are not."""
    made = bytearray(raw[:head].ljust(head, b"\0"))
    seen = set()
    for at in range(head, len(raw) - 15, 16):
        kind, ident, flags, _ = struct.unpack_from("<HHII", raw, at)
        if kind in (_UNICODE, _BYTES, _BINARY):
            body = streams.get(f"{prefix}__substg1.0_{ident:04X}{kind:04X}")
            if body is None:
                continue
            seen.add((ident, kind))
            length = len(body) + {_UNICODE: 2, _BYTES: 1, _BINARY: 0}[kind]
            made += struct.pack("<HHIII", kind, ident, flags, length, 3)
        elif kind or ident:
            made += raw[at : at + 16]
    for path, body in streams.items():
        name = path.removeprefix(prefix)
        if path.startswith(prefix) and "/" not in name and name.startswith("__substg1.0_") and len(name) == 20:
            ident, kind = int(name[12:16], 16), int(name[16:20], 16)
            if kind in (_UNICODE, _BYTES, _BINARY) and (ident, kind) not in seen:
                length = len(body) + {_UNICODE: 2, _BYTES: 1, _BINARY: 0}[kind]
                made += struct.pack("<HHIII", kind, ident, 6, length, 3)
    return bytes(made)


def _as_it_is(job: Job, found: CompoundSalvage) -> tuple[bytes, Outcome]:
    """Any other kind: its streams in a new file, if all that it needs are whole."""
    streams = {path: stream.data for path, stream in found.streams.items() if stream.whole}
    lost = tuple(Loss(LossKind.PARTS, path, 1) for path, stream in found.streams.items() if not stream.whole)
    if not streams:
        raise NothingLeft("no stream of it is whole")
    made = compound(streams)
    if formats.check(io.BytesIO(made), job.name, digest=False, counted=False).state is State.DAMAGED:
        raise NothingLeft("streams that it cannot do without are damaged")
    return made, Outcome(job.format, (Step.CHAINS, Step.CONTAINER), lost)
