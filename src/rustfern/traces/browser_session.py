"""Open pages of a browser's session, with the text typed into their forms.

Source: the `mozLz40` container (8 bytes, the size as 32-bit little-endian, one LZ4 block) and the LZ4 block format description;
the session's JSON as the browser writes it: windows, tabs, entries, `formdata`.
"""

from __future__ import annotations

import json
from typing import Any

import msgspec

from rustfern.core.errors import Malformed, Refused

_MAGIC = b"mozLz40\0"
_MAX = 256 << 20
_LEAST = 40
"""Letters that a form needs before it counts as somebody's writing."""


class Form(msgspec.Struct, frozen=True):
    """The text typed into one page: the page's address and title, the fields one after the other, a number that tells it apart."""

    address: str
    title: str
    text: str
    number: int


def unpack(data: bytes) -> bytes:
    """The JSON of a session file, packed or not. Raises `Malformed`."""
    if not data.startswith(_MAGIC):
        return data
    size = int.from_bytes(data[8:12], "little")
    if size > _MAX:
        raise Refused("it would unpack to more than can be a session: refused", 8)
    out = bytearray()
    at = 12
    while at < len(data):
        token = data[at]
        at += 1
        length, at = _length(data, at, token >> 4)
        if at + length > len(data):
            raise Malformed("the packed session is cut off", len(data))
        out += data[at : at + length]
        at += length
        if at >= len(data):
            break
        offset = int.from_bytes(data[at : at + 2], "little")
        at += 2
        length, at = _length(data, at, token & 15)
        length += 4
        if not 0 < offset <= len(out) or len(out) + length > size:
            raise Malformed("the packed session is damaged", at)
        start = len(out) - offset
        while length > 0:
            piece = out[start : start + min(length, offset)]
            out += piece
            start += len(piece)
            length -= len(piece)
    if len(out) != size:
        raise Malformed(f"the session unpacks to {len(out)} of {size} bytes")
    return bytes(out)


def _length(data: bytes, at: int, value: int) -> tuple[int, int]:
    if value == 15:
        while True:
            if at >= len(data):
                raise Malformed("the packed session is cut off", len(data))
            byte = data[at]
            at += 1
            value += byte
            if byte != 255:
                break
    return value, at


def parse(data: bytes) -> list[Form]:
    """All pages with typed text. Raises `Malformed`."""
    try:
        tree = json.loads(unpack(data))
        windows = [*tree.get("windows", []), *tree.get("_closedWindows", [])]
    except (ValueError, AttributeError, RecursionError, TypeError) as error:
        raise Malformed(f"it is no session ({type(error).__name__})") from error
    found: list[Form] = []
    for window in windows if isinstance(windows, list) else ():
        tabs = (
            [*window.get("tabs", []), *(each.get("state", {}) for each in window.get("_closedTabs", []))]
            if isinstance(window, dict)
            else []
        )
        for tab in tabs:
            if not isinstance(tab, dict):
                continue
            texts = _texts(tab.get("formdata"))
            if sum(map(len, texts)) >= _LEAST:
                entries = tab.get("entries") or [{}]
                last = entries[-1] if isinstance(entries[-1], dict) else {}
                found.append(
                    Form(str(last.get("url", "")), str(last.get("title", "")), "\n\n".join(texts), len(found) + 1)
                )
    return found


def _texts(node: Any) -> list[str]:
    """Every text of a form: by field id, by path in the page, in frames below."""
    if not isinstance(node, dict):
        return []
    fields = [*(node.get("id") or {}).values(), *(node.get("xpath") or {}).values()]
    texts = [value for value in fields if isinstance(value, str) and value.strip()]
    if isinstance(node.get("innerHTML"), str):
        texts.append(node["innerHTML"])
    for child in node.get("children") or []:
        texts += _texts(child)
    return texts
