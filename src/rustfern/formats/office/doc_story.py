"""The characters that structure the stories of binary word-processor texts of all versions: ends, fields, marks.

Source: [MS-DOC] 2.4.1 (text), 2.8.25 (fields); the same in the versions before.
"""

from __future__ import annotations

import re

# Field codes stand between 0x13 and 0x14, their result between 0x14 and 0x15.
_FIELD_CODE = re.compile(r"\x13[^\x13\x14\x15]*(?:\x14|(?=\x15))")
ZEROS = "\0" * 8
END = re.compile(r"[\r\x07\x0c]")
OTHER = re.compile(r"[\x00-\x06\x08\x0e-\x1f]")


def without_fields(text: str) -> str:
    """A story without the codes of its fields: their results stay."""
    for _ in range(8):
        shorter = _FIELD_CODE.sub("", text)
        if shorter == text:
            break
        text = shorter.replace("\x15", "", 1) if "\x13" not in shorter else shorter
    return text
