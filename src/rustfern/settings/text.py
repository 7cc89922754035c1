"""Settings files as text that can be written back byte for byte: their encoding by its mark, their lines by their own ends."""

from __future__ import annotations

import codecs
import re

import msgspec

_LINE = re.compile(r"[^\r\n]*(?:\r\n|\r|\n)|[^\r\n]+")
_MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))


class Text(msgspec.Struct, frozen=True):
    """The text of a settings file, and what is needed to make the same bytes of it: its mark and its encoding."""

    text: str
    mark: bytes
    encoding: str

    def bytes_of(self, text: str) -> bytes:
        """Another text as this file would hold it."""
        return self.mark + text.encode(
            self.encoding, "surrogateescape" if self.encoding == "utf-8" else "surrogatepass"
        )


def decoded(data: bytes) -> Text:
    """The text of some bytes; what is not UTF-8 (an older code page) survives as it is. Source: The Unicode Standard, 23.8 (byte order mark)."""
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            body = data[len(mark) :]
            if encoding == "utf-8":
                return Text(body.decode("utf-8", "surrogateescape"), mark, encoding)
            if len(body) % 2 == 0:
                return Text(body.decode(encoding, "surrogatepass"), mark, encoding)
    return Text(data.decode("utf-8", "surrogateescape"), b"", "utf-8")


def lines_of(text: str) -> list[str]:
    """Lines with their ends (LF, CR LF or CR, nothing else parts lines of settings)."""
    return _LINE.findall(text)


def end_of(lines: list[str], at: int) -> str:
    """The line end that belongs at a place: that of the line before, else that of the first line, else LF."""
    for line in (*reversed(lines[max(0, at - 1) : at]), *lines[:1]):
        if ending := line[len(line.rstrip("\r\n")) :]:
            return ending
    return "\n"
