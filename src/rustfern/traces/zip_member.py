"""One deflated member of a package, taken by itself where the rest is gone: its text, without the marks around it.

Source: APPNOTE 6.3.10, 4.3.7 (local header); RFC 1951; the paragraph elements of ECMA-376 and OpenDocument.
"""

from __future__ import annotations

import html
import re
import zlib

from rustfern.core.errors import Malformed

MARK = b"PK\x03\x04"
_MOST = 16 << 20
_ENDS = re.compile(r"</(?:w:p|text:p|text:h|a:p|row|table:table-row|p|h\d|li)>|<(?:w:br|text:line-break|br)\b[^>]*>")
_TAGS = re.compile(r"<[^<>]*>")


def read(data: bytes) -> tuple[str, int]:
    """(the text, bytes of the member) of the member that some bytes begin with; of one that breaks, as much as unpacks. Raises `Malformed`."""
    if data[:4] != MARK or len(data) < 31 or data[8:10] != b"\x08\0":
        raise Malformed("this is no deflated member of a package", 0)
    body = 30 + int.from_bytes(data[26:28], "little") + int.from_bytes(data[28:30], "little")
    inflate = zlib.decompressobj(-15)
    out = bytearray()
    at = body
    try:
        while not inflate.eof and len(out) < _MOST and (piece := data[at : at + 4096]):
            out += inflate.decompress(piece, _MOST - len(out))
            at += len(piece)
    except zlib.error as error:
        if not out:
            raise Malformed("a member of a package does not unpack", at) from error
    text = out.decode("utf-8", "ignore")
    if text.lstrip("\ufeff \r\n\t")[:1] == "<":
        text = html.unescape(_TAGS.sub("", _ENDS.sub("\n", text)))
    return text, at - len(inflate.unused_data)


def text_of(data: bytes) -> str:
    """The text of the member that some bytes begin with. Raises `Malformed`."""
    return read(data)[0]
