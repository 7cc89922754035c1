"""Registry files of Windows (regf) and their exported text form.

Sources: the regf layout as read by `regipy`; the exported form begins `Windows Registry Editor Version 5.00` or `REGEDIT4`.
The files of others are never opened by that library: it gets a private copy, with the transaction logs applied to it.
"""

from __future__ import annotations

import fnmatch
import re
import shutil
import struct
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from rustfern.core.errors import Malformed
from rustfern.settings.interface import SettingsFile, Value

_ROOT = re.compile(r"HKEY_(?:CURRENT_USER|LOCAL_MACHINE\\SYSTEM|USERS\\[^\\]+)\\?", re.IGNORECASE)
_MAX_KEYS = 20_000
_LINE = re.compile(r'(?:"((?:[^"\\]|\\.)*)"|@)=(.*)', re.DOTALL)


def values(source: SettingsFile) -> Iterator[Value]:
    """The values of the wanted keys of a registry file. Raises `Malformed` for files of another kind or cut off."""
    head = source.stream.read(4096)
    if head[:4] != b"regf":
        raise Malformed(
            "it does not start like a registry file" + (" (only zeros)" if not head.strip(b"\0") else ""), 0
        )
    if len(head) < 4096:
        raise Malformed("the registry file stops inside its first block", len(head))
    bins = struct.unpack_from("<I", head, 40)[0]
    with source.scratch.private_folder() as folder:
        path = folder / "hive"
        with path.open("wb") as out:
            out.write(head)
            shutil.copyfileobj(source.stream, out, 1 << 20)
        yield from _read(_with_logs(path, source), source)
    if source.size < 4096 + bins:
        raise Malformed(f"the registry file stops after {source.size} of {4096 + bins} bytes", source.size)


def _with_logs(path: Path, source: SettingsFile) -> Path:
    """Apply transaction logs where the hive was not written out; the hive alone if they do not fit."""
    from regipy.recovery import apply_transaction_logs

    logs = [data for _, data in sorted(source.companions.items()) if len(data) > 512]
    if not logs:
        return path
    names = []
    for number, data in enumerate(logs[:2]):
        log = path.with_name(f"log{number}")
        log.write_bytes(data)
        names.append(str(log))
    restored = path.with_name("restored")
    try:
        apply_transaction_logs(  # type: ignore[no-untyped-call]
            str(path), names[0], names[1] if len(names) > 1 else None, str(restored)
        )
    except Exception:  # the library raises many kinds for logs that do not belong to the hive
        return path
    return restored if restored.exists() and restored.stat().st_size else path


def _read(path: Path, source: SettingsFile) -> Iterator[Value]:
    from regipy.registry import RegistryHive

    try:
        root = RegistryHive(str(path)).root  # type: ignore[no-untyped-call]
    except Exception as error:  # the library raises parsing errors of several packages
        raise Malformed(f"the registry file cannot be read ({type(error).__name__})") from error
    damaged = None
    for wanted in source.keys:
        try:
            yield from _below(root, wanted.split("\\"), "")
        except Exception as error:  # one damaged key does not hide the others
            damaged = f"a key under {wanted} cannot be read ({type(error).__name__})"
    if damaged:
        raise Malformed(damaged)


def _below(key: Any, parts: list[str], path: str) -> Iterator[Value]:
    from regipy.utils import convert_wintime

    if not parts:
        when = convert_wintime(key.header.last_modified)
        for value in key.iter_values(as_json=False, trim_values=False):
            content = value.value
            if isinstance(content, (list, tuple)):
                content = "\n".join(map(str, content))
            if isinstance(content, (str, int, bytes)):
                yield Value(path, str(value.name), content, when if isinstance(when, datetime) else None)
        return
    for number, child in enumerate(key.iter_subkeys()):
        if number >= _MAX_KEYS:
            return
        if fnmatch.fnmatchcase(child.name.casefold(), parts[0].casefold()):
            yield from _below(child, parts[1:], f"{path}\\{child.name}" if path else child.name)


def text_values(source: SettingsFile) -> Iterator[Value]:
    """The values of an exported registry text. Raises `Malformed` if it is none."""
    data = source.stream.read(source.size)
    encoding = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    text = data.decode(encoding, "replace")
    first, _, rest = text.partition("\n")
    if not first.strip().startswith(("Windows Registry Editor", "REGEDIT4")):
        raise Malformed("it is no exported registry text", 0)
    key = ""
    for line in re.sub(r"\\\r?\n\s*", "", rest).splitlines():
        line = line.strip()
        if line.startswith("[") and line.endswith("]"):
            key = _ROOT.sub("", line[1:-1].lstrip("-"), count=1)
        elif found := _LINE.fullmatch(line):
            value = _typed(found[2])
            if value is not None:
                yield Value(key, _plain(found[1] or ""), value)


def _plain(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text)


def _typed(text: str) -> str | int | bytes | None:
    if text.startswith('"') and text.endswith('"') and len(text) > 1:
        return _plain(text[1:-1])
    kind, _, rest = text.partition(":")
    try:
        if kind == "dword":
            return int(rest, 16)
        if kind.startswith("hex"):
            data = bytes(int(part, 16) for part in rest.split(",") if part.strip())
            return data.decode("utf-16-le", "replace").rstrip("\0") if kind in ("hex(1)", "hex(2)", "hex(7)") else data
    except ValueError:
        return None
    return None
