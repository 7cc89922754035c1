"""Shell links of Windows: where a recently opened file was, on which volume.

Source: [MS-SHLLINK] 2.1 (header), 2.2 (target list), 2.3 (link info and its volume).
"""

from __future__ import annotations

import struct
from datetime import datetime

import msgspec

from rustfern.core.errors import Malformed
from rustfern.core.times import filetime

_CLASS = bytes.fromhex("0114020000000000c000000000000046")
_HAS_TARGET_LIST, _HAS_INFO = 1, 2
_DRIVES = {2: "a removable disk", 3: "a fixed disk", 4: "a network drive", 5: "a CD or DVD"}


class ShellLink(msgspec.Struct, frozen=True):
    """`target` as a whole path (`C:\\…` or `\\\\server\\share\\…`), empty if the link names none. `volume` says what kind of
    disk it was on and its label. Times are those of the target when the link was written (UTC); `size` in bytes.
    """

    target: str
    volume: str
    written: datetime | None
    accessed: datetime | None
    size: int


def parse(data: bytes) -> ShellLink:
    """Read a shell link. Raises `Malformed`."""
    if len(data) < 76 or data[:4] != b"\x4c\0\0\0" or data[4:20] != _CLASS:
        raise Malformed("it does not start like a shell link", 0)
    flags, _, _, accessed, written, size = struct.unpack_from("<II3QI", data, 20)
    at = 76
    if flags & _HAS_TARGET_LIST:
        at += 2 + _u16(data, at)
    target = volume = ""
    if flags & _HAS_INFO:
        target, volume = _info(data, at)
    return ShellLink(target, volume, filetime(written), filetime(accessed), size)


def _u16(data: bytes, at: int) -> int:
    if at + 2 > len(data):
        raise Malformed("the shell link is cut off", len(data))
    return int(struct.unpack_from("<H", data, at)[0])


def _info(data: bytes, at: int) -> tuple[str, str]:
    if at + 28 > len(data):
        raise Malformed("the shell link is cut off", len(data))
    size, header, flags, volume_at, base_at, network_at, suffix_at = struct.unpack_from("<7I", data, at)
    if size < 28 or at + size > len(data):
        raise Malformed("its target reaches beyond its end", at)
    block = data[at : at + size]
    unicode_base, unicode_suffix = struct.unpack_from("<2I", block, 28) if header >= 0x24 and size >= 36 else (0, 0)
    suffix = _wide(block, unicode_suffix) if unicode_suffix else _narrow(block, suffix_at)
    base = volume = ""
    if flags & 1:
        base = _wide(block, unicode_base) if unicode_base else _narrow(block, base_at)
        if volume_at and volume_at + 16 <= size:
            _, drive, _, label_at = struct.unpack_from("<4I", block, volume_at)
            label = _narrow(block, volume_at + label_at) if label_at != 0x14 else ""
            volume = _DRIVES.get(drive, "") + (f" named {label}" if label else "")
    elif flags & 2 and network_at and network_at + 20 <= size:
        name_at = struct.unpack_from("<I", block, network_at + 8)[0]
        base, volume = _narrow(block, network_at + name_at), "a share"
    if base and suffix and not base.endswith("\\"):
        base += "\\"
    return base + suffix, volume


def _narrow(block: bytes, at: int) -> str:
    if not 0 < at < len(block):
        return ""
    return block[at : block.find(b"\0", at) if b"\0" in block[at:] else len(block)].decode("cp1252", "replace")


def _wide(block: bytes, at: int) -> str:
    end = at
    while end + 2 <= len(block) and block[end : end + 2] != b"\0\0":
        end += 2
    return block[at:end].decode("utf-16-le", "replace")
