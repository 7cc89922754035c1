"""Who an account is: the system's own records of accounts, with their real names.

Sources: passwd(5), fields 1, 5 (GECOS) and 6; directory records of macOS (`dslocal`), property lists with `name`, `realname` and `home`;
the account records of Windows (SAM hive, value `V` of `SAM\\Domains\\Account\\Users\\RID`) as read on real hives: a table of offset and
length (bytes, from 0xCC on), the account's name at 0x0C, the real name at 0x18, both UTF-16.
"""

from __future__ import annotations

import plistlib
import struct
from collections.abc import Iterator
from xml.parsers.expat import ExpatError

import msgspec

from rustfern.core.errors import Malformed
from rustfern.settings.interface import Value

SAM_KEYS = (r"SAM\Domains\Account\Users\*",)
_NAMES_FROM, _NAME_AT, _REAL_NAME_AT = 0xCC, 0x0C, 0x18


class Account(msgspec.Struct, frozen=True):
    """An account: its name, the person's real name, and its home as recorded ("" where it is not told)."""

    name: str
    real_name: str
    home: str = ""


def from_passwd(data: bytes) -> Iterator[Account]:
    """The accounts of a passwd file; lines of another form are passed over."""
    for row in data.decode("utf-8", "replace").splitlines():
        fields = row.split(":")
        if len(fields) >= 6:
            yield Account(fields[0], fields[4].split(",")[0], fields[5])


def from_directory_record(data: bytes) -> Iterator[Account]:
    """The account of one directory record. Raises `Malformed` for what is no property list."""
    try:
        record = plistlib.loads(data)
    except (plistlib.InvalidFileException, ExpatError, ValueError, LookupError, OverflowError, RecursionError) as error:
        raise Malformed("it is no property list", 0) from error
    if isinstance(record, dict):
        name, real_name, home = (_first(record.get(key)) for key in ("name", "realname", "home"))
        if name:
            yield Account(name, real_name, home)


def from_sam(values: Iterator[Value]) -> Iterator[Account]:
    """The accounts among the values of a SAM hive (read with `SAM_KEYS`)."""
    for value in values:
        if value.name == "V" and isinstance(value.value, bytes):
            name, real_name = (_text(value.value, at) for at in (_NAME_AT, _REAL_NAME_AT))
            if name:
                yield Account(name, real_name)


def _first(field: object) -> str:
    return str(field[0]) if isinstance(field, list) and field else ""


def _text(record: bytes, at: int) -> str:
    """One text of an account record; empty where the record is too short for it."""
    if len(record) < _NAMES_FROM:
        return ""
    start, length = struct.unpack_from("<II", record, at)
    text = record[_NAMES_FROM + start : _NAMES_FROM + start + length]
    return text.decode("utf-16-le", "replace") if len(text) == length else ""
