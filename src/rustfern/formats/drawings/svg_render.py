"""Drawings of lines (SVG) as pictures, for showing them. The drawing is made in a process of its own, which is stopped when it takes long.

Source: W3C SVG 2, 13 (painting), through resvg. Nothing outside of the file is looked at: links that are not inside it are taken out.
"""

from __future__ import annotations

import gzip
import io
import re
import sys

from rustfern.formats.drawn_aside import drawn_aside

_MOST, _UNPACKED = 8 << 20, 32 << 20
_WIDTH, _PATIENCE, _DPI = 900, 15, 96
_LINK = re.compile(rb"""\s(?:xlink:)?href\s*=\s*(["'])(?!#|data:image/)[^"']*\1""", re.IGNORECASE)
_IMPORT = re.compile(rb"@import[^;<]*;?|url\(\s*['\"]?(?!['\"]?\s*(?:#|data:))[^)<]*\)?", re.IGNORECASE)


def looks_drawn(head: bytes) -> bool:
    """Whether the first bytes are those of a drawing that can be shown."""
    return head[:2] == b"\x1f\x8b" or (b"<svg" in head and head.lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"<")


def draw(data: bytes) -> bytes | None:
    """A drawing as PNG; None where it cannot be made, or takes too long."""
    if data[:2] == b"\x1f\x8b":
        try:
            with gzip.open(io.BytesIO(data)) as packed:
                data = packed.read(_UNPACKED)
        except (OSError, EOFError):
            return None
    if len(data) > _MOST or b"<svg" not in data[:65536] or b"<!ENTITY" in data:
        return None
    clean = _IMPORT.sub(b"none", _LINK.sub(b"", data))
    return drawn_aside("rustfern.formats.drawings.svg_render", clean, _PATIENCE)


def main() -> None:
    """The process of its own: a drawing comes in, a picture goes out."""
    import resvg_py

    made = resvg_py.svg_to_bytes(svg_string=sys.stdin.buffer.read().decode("utf-8", "replace"), width=_WIDTH, dpi=_DPI)
    sys.stdout.buffer.write(bytes(made))


if __name__ == "__main__":
    main()
