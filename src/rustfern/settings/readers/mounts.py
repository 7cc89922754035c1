"""Which volume a system knows by which letter or folder: the system's own tables.

Sources: the registry key `MountedDevices` (disk signature and offset, or `DMIO:ID:` and the partition's GUID); fstab(5).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from rustfern.settings.interface import Value

KEYS = ("MountedDevices",)
_LETTER = re.compile(r"\\DosDevices\\([A-Z]):", re.IGNORECASE)
_ESCAPED = re.compile(r"\\([0-7]{3})")


def letters(values: Iterable[Value]) -> Iterator[tuple[str, bytes]]:
    """(drive letter, what identifies its volume) among the values of a SYSTEM hive (read with `KEYS`)."""
    for value in values:
        found = _LETTER.fullmatch(value.name)
        if found and isinstance(value.value, bytes):
            yield found[1].upper(), value.value


def mount_points(fstab: str) -> Iterator[tuple[str, str]]:
    """(folder, device as written: `UUID=…`, `LABEL=…`, `PARTUUID=…`) of a table of mounts."""
    for line in fstab.splitlines():
        fields = line.split()
        if len(fields) >= 2 and not fields[0].startswith("#") and fields[1].startswith("/") and fields[1] != "/":
            yield _ESCAPED.sub(lambda found: chr(int(found[1], 8)), fields[1]), fields[0].replace('"', "")
