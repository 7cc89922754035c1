"""What the filters of PDF streams leave to do: pictures, LZW codes, and the predictors of packed tables.

Source: ISO 32000-1, 7.4.4 (LZW, predictors), 7.4.8 (DCT); PNG specification, 9 (filters); TIFF 6.0, section 14.
"""

from __future__ import annotations

from rustfern.core.errors import Malformed, Refused


def follow_codes(data: bytes, early: bool, at: int) -> None:
    """A stream of LZW codes, which may lack its end code. Raises `Malformed` for a code that does not exist."""
    from rustfern.formats.images import lzw

    try:
        lzw.measure(data, early=early)
    except lzw.RunsOver:
        pass
    except Malformed as error:
        raise Malformed("a packed stream is damaged", at) from error


def check_picture(data: bytes, at: int) -> None:
    """A JPEG picture as a stream. Raises `Malformed` where it is not whole."""
    from rustfern.formats.images import jpeg

    try:
        jpeg.read(data, alone=False)
    except Refused:
        pass
    except Malformed as error:
        raise Malformed(f"a picture in the document is damaged: {error.reason}", at) from error


def by_the_left(body: bytes, columns: int, step: int) -> bytes:
    """Undo TIFF's predictor: each value was written as what it differs from the one to its left."""
    out = bytearray(body)
    for at in range(0, len(out), columns):
        for n in range(at + step, min(at + columns, len(out))):
            out[n] = out[n] + out[n - step] & 255
    return bytes(out)


def row_by_row(body: bytes, columns: int, step: int = 1) -> bytes:
    """Undo the filter that each row names; `step` bytes are a value of all colours."""
    out, before = bytearray(), bytes(columns)
    for at in range(0, len(body), columns + 1):
        kind, row = body[at], bytearray(body[at + 1 : at + 1 + columns].ljust(columns, b"\0"))
        for n in range(columns):
            left = row[n - step] if n >= step else 0
            up = before[n]
            corner = before[n - step] if n >= step else 0
            if kind == 1:
                row[n] = row[n] + left & 255
            elif kind == 2:
                row[n] = row[n] + up & 255
            elif kind == 3:
                row[n] = row[n] + (left + up) // 2 & 255
            elif kind == 4:
                guess = left + up - corner
                nearest = min((abs(guess - left), 0, left), (abs(guess - up), 1, up), (abs(guess - corner), 2, corner))
                row[n] = row[n] + nearest[2] & 255
        out += row
        before = bytes(row)
    return bytes(out)


def all_up(body: bytes, columns: int) -> bytes | None:
    """The same for a long table all of whose rows are filtered by the row above, as nearly all are; None if they are not."""
    import numpy as np

    rows = np.frombuffer(body, np.uint8, len(body) // (columns + 1) * (columns + 1)).reshape(-1, columns + 1)
    if (rows[:, 0] != 2).any():
        return None
    return np.cumsum(rows[:, 1:], axis=0, dtype=np.uint8).tobytes()
