"""A file of registry values for the person to open: a hive is never written.

Source: the exported text form, `Windows Registry Editor Version 5.00`, UTF-16 with a byte order mark, lines ended by CR LF.
"""

from __future__ import annotations

import codecs
from collections.abc import Sequence

from rustfern.settings.writers.interface import Wanted

_TOP = "HKEY_CURRENT_USER"


def write(wanted: Sequence[Wanted]) -> bytes:
    """All of the file; keys are those below the person's own hive."""
    by_key: dict[str, list[Wanted]] = {}
    for each in wanted:
        by_key.setdefault(each.key, []).append(each)
    lines = ["Windows Registry Editor Version 5.00", ""]
    for key, values in by_key.items():
        lines.append(f"[{_TOP}\\{key}]")
        lines += [f'"{_plain(each.name)}"={_typed(each.value)}' for each in values]
        lines.append("")
    return codecs.BOM_UTF16_LE + "\r\n".join(lines).encode("utf-16-le")


def _plain(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')


def _typed(value: bool | int | str) -> str:
    return f'"{_plain(value)}"' if isinstance(value, str) else f"dword:{int(value) & 0xFFFFFFFF:08x}"
