"""Mail stores as one file of mails, each after a line `From …` (mbox): names of attachments, subjects, deleted mails.

Source: RFC 4155 (mbox), RFC 5322, RFC 2183; the status line `X-Mozilla-Status`, whose bit 0x0008 marks a deleted mail.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from email import message_from_bytes, policy
from email.message import EmailMessage
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed

_MAX_MAIL = 200 << 20
_DELETED = 0x0008
_STATUS = re.compile(rb"^X-Mozilla-Status:\s*([0-9a-fA-F]{4})", re.MULTILINE)
_FILE = re.compile(rb"(?:file)?name\*?(?:\d\*?)?\s*=", re.IGNORECASE)


class Mail(msgspec.Struct, frozen=True):
    """Where a mail lies in the store (bytes), whether it was deleted, whether it may carry files."""

    start: int
    end: int
    deleted: bool
    may_carry: bool


class Attached(msgspec.Struct, frozen=True):
    """One file in a mail: its name as written, its bytes, and what the mail says of itself (time in UTC)."""

    name: str
    data: bytes
    subject: str
    when: datetime | None
    number: int


def mails(stream: BinaryIO, offset: int = 0) -> Iterator[Mail]:
    """The mails of a store from where the stream stands (`offset` bytes), one after the other. Raises `Malformed` if it is none."""
    start, at, blank = -1, offset, True
    head: list[bytes] = []
    carries = False
    in_head = False
    for line in stream:
        if blank and line.startswith(b"From "):
            if start >= 0:
                yield Mail(start, at, _deleted(head), carries)
            start, head, carries, in_head = at, [], False, True
        elif start < 0:
            raise Malformed("it does not start like a store of mails", 0)
        elif in_head:
            if len(head) < 500:
                head.append(line)
            in_head = bool(line.strip())
        if not carries and _FILE.search(line):
            carries = True
        blank = not line.strip(b"\r\n")
        at += len(line)
    if start >= 0:
        yield Mail(start, at, _deleted(head), carries)


def _deleted(head: list[bytes]) -> bool:
    found = _STATUS.search(b"".join(head))
    return bool(found and int(found[1], 16) & _DELETED)


def read(stream: BinaryIO, mail: Mail) -> EmailMessage:
    """One mail, taken apart. Raises `Malformed` if it is too large."""
    if mail.end - mail.start > _MAX_MAIL:
        raise Malformed("a mail is larger than can be one", mail.start)
    stream.seek(mail.start)
    data = stream.read(mail.end - mail.start)
    return message_from_bytes(data.partition(b"\n")[2], policy=policy.default)


def facts(message: EmailMessage) -> tuple[str, datetime | None]:
    """Subject and time (UTC) of a mail."""
    subject, when = "", None
    try:
        subject = str(message["Subject"] or "").strip()
        header = message["Date"]
        when = header.datetime if header is not None else None
    except (ValueError, AttributeError, TypeError, IndexError, KeyError, LookupError):
        pass
    return subject, when.astimezone(UTC) if when is not None and when.tzinfo else None


def attachments(message: EmailMessage) -> list[Attached]:
    """The files that a mail carries."""
    subject, when = facts(message)
    found = []
    for number, part in enumerate(message.walk(), 1):
        try:
            name = part.get_filename()
            if name:
                data = part.get_payload(decode=True)
                found.append(Attached(str(name), data if isinstance(data, bytes) else b"", subject, when, number))
        except (ValueError, AttributeError, TypeError, LookupError, IndexError):
            continue  # headers of mails may be anything
    return found


def body(message: EmailMessage) -> str:
    """The text of a mail, plain if there is one."""
    try:
        part = message.get_body(preferencelist=("plain", "html"))
        return str(part.get_content()) if part is not None else ""
    except (ValueError, AttributeError, TypeError, LookupError):
        return ""
