"""LVM2: logical volumes, linear and striped, by the text metadata at the start of each physical one.

Source: the LVM2 metadata format as the Linux documentation and `lvm.conf(5)`, `vgcfgbackup(8)` show it: label sector, metadata area header, text.
"""

from __future__ import annotations

import re
import struct
from bisect import bisect_right
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

import msgspec

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.interface import DiskBytes, Pieced, read_exactly
from rustfern.sources.disks.lvm_snapshots import Snapshot

_LABEL = b"LABELONE"
_AREA = b" LVM2 x[5A%r0N*>"
_MAX_TEXT = 16 << 20
_TOKEN = re.compile(r'#[^\n]*|"(?:[^"\\]|\\.)*"|[{}\[\]=,]|[^\s{}\[\]=,#"]+')
_MAX_DEPTH = 8


def _label_of(volume: DiskBytes) -> tuple[str, int, int] | None:
    """(id of the physical volume, place and size of its metadata area), None if this is none."""
    head = volume.read_at(0, 2048)
    for at in range(0, 2048, 512):
        if head[at : at + 8] != _LABEL:
            continue
        start = at + struct.unpack_from("<I", head, at + 20)[0]
        if start + 40 > len(head):
            return None
        ident = head[start : start + 32].decode("ascii", "replace")
        pos, lists = start + 40, 0
        while pos + 16 <= len(head):
            offset, size = struct.unpack_from("<QQ", head, pos)
            pos += 16
            if not offset:
                lists += 1
                if lists == 2:
                    break
            elif lists == 1:
                return ident, offset, size
        return None
    return None


def _text_of(volume: DiskBytes, at: int, size: int) -> str:
    """The current metadata, from a ring that begins behind the area's header."""
    head = read_exactly(volume, at, 512)
    if head[4:20] != _AREA:
        raise Malformed("the header of the metadata area is damaged", at)
    offset, length = struct.unpack_from("<QQ", head, 40)
    if not 512 <= offset < size or not 0 < length <= min(_MAX_TEXT, size):
        raise Malformed("the metadata area names no text", at)
    first = min(length, size - offset)
    data = read_exactly(volume, at + offset, first)
    if first < length:
        data += read_exactly(volume, at + 512, length - first)
    return data.rstrip(b"\0").decode("utf-8", "replace")


def _parsed(text: str) -> dict[str, Any]:
    """The metadata as nested dictionaries: `name { … }` and `name = value`."""
    tokens = [token for token in _TOKEN.findall(text) if not token.startswith("#")]
    pos = 0

    def value(depth: int) -> Any:
        nonlocal pos
        token = tokens[pos]
        pos += 1
        if token == "[":
            items = []
            while tokens[pos] != "]":
                if tokens[pos] == ",":
                    pos += 1
                    continue
                items.append(value(depth + 1))
            pos += 1
            return items
        return token[1:-1] if token.startswith('"') else int(token) if token.lstrip("-").isdigit() else token

    def section(depth: int) -> dict[str, Any]:
        nonlocal pos
        if depth > _MAX_DEPTH:
            raise Malformed("its metadata are nested too deep")
        found: dict[str, Any] = {}
        while pos < len(tokens) and tokens[pos] != "}":
            name = tokens[pos]
            pos += 1
            if pos >= len(tokens):
                break
            if tokens[pos] == "{":
                pos += 1
                found[name] = section(depth + 1)
                pos += 1
            elif tokens[pos] == "=":
                pos += 1
                found[name] = value(0)
            else:
                raise Malformed("its metadata cannot be read")
        return found

    try:
        return section(0)
    except (IndexError, RecursionError) as error:
        raise Malformed("its metadata stop in the middle") from error


class _Stripes(Pieced):
    """A logical volume: pieces that lie on physical ones, one behind the other, or turn by turn."""

    def __init__(self, sector: int) -> None:
        self.size, self.sector = 0, sector
        self._starts: list[int] = []
        self._pieces: list[tuple[int, int, list[tuple[DiskBytes, int]]]] = []

    def add(self, size: int, stripe: int, parts: list[tuple[DiskBytes, int]]) -> None:
        """A piece of `size` bytes; each part is a physical volume and where the piece begins on it."""
        self._starts.append(self.size)
        self._pieces.append((size, stripe, parts))
        self.size += size

    def runs(self, offset: int, length: int) -> list[tuple[DiskBytes, int, int]]:
        """As `Pieced.runs`."""
        runs = []
        length = min(length, self.size - offset)
        while length > 0:
            number = bisect_right(self._starts, offset) - 1
            size, stripe, parts = self._pieces[number]
            inner = offset - self._starts[number]
            count = min(length, size - inner)
            if len(parts) == 1:
                disk, start = parts[0]
                runs.append((disk, start + inner, count))
            else:
                row, rest = divmod(inner, stripe)
                count = min(count, stripe - rest)
                disk, start = parts[row % len(parts)]
                runs.append((disk, start + row // len(parts) * stripe + rest, count))
            offset, length = offset + count, length - count
        return runs


class Logical(msgspec.Struct, frozen=True):
    """A logical volume, `GROUP-NAME`; a snapshot is one `of` another, as that was at a time (None: not told)."""

    name: str
    volume: DiskBytes
    label: str = ""
    of: str = ""
    taken: datetime | None = None


def logical_volumes(physical: Sequence[DiskBytes]) -> tuple[list[Logical], list[str]]:
    """The logical volumes that lie on these physical ones, and what could not be put together."""
    known: dict[str, DiskBytes] = {}
    newest: dict[str, tuple[int, str, dict[str, Any]]] = {}
    remarks: list[str] = []
    for volume in physical:
        label = _label_of(volume)
        if label is None:
            continue
        known[label[0]] = volume
        try:
            for group, told in _parsed(_text_of(volume, label[1], label[2])).items():
                if isinstance(told, dict) and isinstance(told.get("logical_volumes", {}), dict) and "seqno" in told:
                    number = told["seqno"] if isinstance(told["seqno"], int) else 0
                    if group not in newest or newest[group][0] < number:
                        newest[group] = number, group, told
        except Malformed as error:
            remarks.append(f"the metadata of an LVM volume are damaged ({error})")
    found: list[Logical] = []
    for _, group, told in newest.values():
        volumes = told.get("logical_volumes", {})
        snapshots = _snapshots(volumes)
        for name, volume in volumes.items():
            if not isinstance(volume, dict) or "VISIBLE" not in volume.get("status", ["VISIBLE"]):
                continue
            try:
                made: DiskBytes = _put_together(told, volume, known)
                if name in snapshots:
                    origin, chunk = snapshots[name]
                    made = Snapshot(_put_together(told, volumes[origin], known), made, chunk)
                    found.append(Logical(f"{group}-{name}", made, name, f"{group}-{origin}", _made(volume)))
                else:
                    found.append(Logical(f"{group}-{name}", made, name))
            except SourceError as error:
                remarks.append(f"the LVM volume {group}-{name} was not put together: {error.what}")
            except (Malformed, KeyError, TypeError, ValueError, AttributeError) as error:
                what = str(error) if isinstance(error, Malformed) else "its metadata are damaged"
                remarks.append(f"the LVM volume {group}-{name} was not put together: {what}{_age(volume)}")
    return found, remarks


def _snapshots(volumes: dict[str, Any]) -> dict[str, tuple[str, int]]:
    """Name of each volume that keeps what was written over of another → (that other, bytes of a chunk)."""
    found = {}
    for volume in volumes.values():
        segment = volume.get("segment1") if isinstance(volume, dict) else None
        if isinstance(segment, dict) and segment.get("type") == "snapshot":
            told = segment.get("cow_store"), segment.get("origin"), segment.get("chunk_size")
            if isinstance(told[0], str) and isinstance(told[1], str) and isinstance(told[2], int):
                found[told[0]] = told[1], told[2] * 512
    return found


def _made(volume: dict[str, Any]) -> datetime | None:
    """When a volume was made."""
    told = volume.get("creation_time")
    try:
        return datetime.fromtimestamp(told, UTC) if isinstance(told, int) and told > 0 else None
    except (ValueError, OverflowError, OSError):
        return None


def _age(volume: dict[str, Any]) -> str:
    """When a volume that is not read was made, for people to look for it."""
    made = _made(volume)
    return f"; it was made {made:%Y-%m-%d %H:%M} UTC" if made else ""


def _put_together(group: dict[str, Any], volume: dict[str, Any], known: dict[str, DiskBytes]) -> DiskBytes:
    extent = int(group["extent_size"]) * 512
    if not 0 < extent <= 1 << 40:
        raise Malformed("its extents have a size that cannot be")
    made = _Stripes(512)
    for number in range(1, min(int(volume["segment_count"]), 10_000) + 1):
        segment = volume[f"segment{number}"]
        if segment["type"] != "striped":
            raise Malformed(f"it is of a kind that is not read ({segment['type']})")
        told = segment["stripes"]
        parts = []
        for name, start in zip(told[::2], told[1::2], strict=True):
            place = group["physical_volumes"].get(name) or {}
            disk = known.get(str(place.get("id", "")).replace("-", ""))
            if disk is None:
                raise Malformed(f"a part of it lies on a disk that is not here ({name})")
            parts.append((disk, int(place["pe_start"]) * 512 + int(start) * extent))
        stripe = int(segment.get("stripe_size", 0)) * 512 or extent
        if not parts:
            raise Malformed("a piece of it lies nowhere")
        made.add(int(segment["extent_count"]) * extent, stripe, parts)
    return made
