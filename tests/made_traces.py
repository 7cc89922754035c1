"""Traces made by small stand-ins: tabs, sessions, mails, indexes and links, as their programs and systems write them."""

from __future__ import annotations

import json
import sqlite3
import struct
import zlib

T0 = 1_760_000_000


def leb(value: int) -> bytes:
    out = b""
    while True:
        value, low = value >> 7, value & 0x7F
        out += bytes([low | (0x80 if value else 0)])
        if not value:
            return out


def editor_tab(path: str, text: str, change: str = "") -> bytes:
    """A tab of the Windows editor in the layout that was reported, with a change put in at the end."""
    head = b"\x00" + (b"\x01" if path else b"\x00")
    if path:
        head += leb(len(path)) + path.encode("utf-16-le") + leb(10) + leb(5) + leb(1) + leb(1) + bytes(32) + b"\x00\x01"
    else:
        head += b"\x01"
    head += leb(0) + leb(0) + b"\x01\x00\x00\x00" + leb(len(text)) + text.encode("utf-16-le") + b"\x01"
    out = b"NP" + head + struct.pack(">I", zlib.crc32(head[1:]))
    if change:
        piece = leb(len(text)) + leb(0) + leb(len(change)) + change.encode("utf-16-le")
        out += piece + struct.pack(">I", zlib.crc32(piece))
    return out


def session(*texts: str) -> bytes:
    """A browser's session, packed as literals only."""
    tabs = [
        {"entries": [{"url": "https://forms.example/claim", "title": "Claim"}], "formdata": {"id": {"t": text}}}
        for text in texts
    ]
    plain = json.dumps({"windows": [{"tabs": tabs}]}).encode()
    token, rest = (15 << 4, len(plain) - 15) if len(plain) >= 15 else (len(plain) << 4, -1)
    length = b""
    while rest >= 255:
        length, rest = length + b"\xff", rest - 255
    return b"mozLz40\0" + struct.pack("<I", len(plain)) + bytes([token]) + length + bytes([rest]) + plain


def mbox(*mails: tuple[str, str, bytes, bool]) -> bytes:
    """A store of mails: (subject, file name or "", content, deleted)."""
    from base64 import encodebytes

    out = b""
    for subject, name, data, deleted in mails:
        out += b"From - Thu Mar 12 16:40:00 2026\n"
        out += f"X-Mozilla-Status: {'0009' if deleted else '0001'}\nSubject: {subject}\n".encode()
        out += b"Date: Thu, 12 Mar 2026 16:40:00 +0000\nMIME-Version: 1.0\n"
        if name:
            out += b'Content-Type: multipart/mixed; boundary="b"\n\n--b\nContent-Type: text/plain\n\nas agreed\n--b\n'
            out += (
                f'Content-Type: application/octet-stream; name="{name}"\nContent-Transfer-Encoding: base64\n'.encode()
            )
            out += f'Content-Disposition: attachment; filename="{name}"\n\n'.encode() + encodebytes(data) + b"--b--\n\n"
        else:
            out += b"Content-Type: text/plain\n\n" + data + b"\n\n"
    return out


def revisions(original: str, stored: str) -> bytes:
    """An index of older versions."""
    db = sqlite3.connect(":memory:")
    db.execute("CREATE TABLE files (file_row_id INTEGER, file_name TEXT, file_path TEXT, file_storage_id INTEGER)")
    db.execute(
        "CREATE TABLE generations (generation_id INTEGER, generation_storage_id INTEGER, generation_path TEXT, generation_add_time INTEGER)"
    )
    db.execute("INSERT INTO files VALUES (1, 'plan.docx', ?, 7)", (original,))
    db.execute("INSERT INTO generations VALUES (1, 7, ?, ?)", (stored, T0 - 500))
    db.commit()
    return db.serialize()


def shell_link(target: str) -> bytes:
    """A shell link with a volume and a path, as the system writes it."""
    path = target.encode("cp1252") + b"\0"
    volume = struct.pack("<4I", 17, 2, 0x5A3F19C2, 16) + b"\0"
    info = struct.pack(
        "<7I", 28 + len(volume) + len(path) + 1, 28, 1, 28, 28 + len(volume), 0, 28 + len(volume) + len(path)
    )
    when = (T0 + 11_644_473_600) * 10_000_000
    head = (
        b"\x4c\0\0\0"
        + bytes.fromhex("0114020000000000c000000000000046")
        + struct.pack("<II3QI", 0x82, 32, when, when, when, 9)
    )
    return head.ljust(76, b"\0") + info + volume + path + b"\0"
