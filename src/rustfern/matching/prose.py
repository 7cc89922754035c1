"""Whether a file without a telling name begins with what people write, or with what programs note for themselves."""

from __future__ import annotations

import re
from contextlib import suppress

from rustfern.core.errors import SourceError
from rustfern.core.model import Entry
from rustfern.formats.text.plain import encoding_of
from rustfern.matching.state import LinkState

_HEAD = 512
_MIN_WORDS, _MIN_LETTERS = 6, 0.6
_NOTATIONS = (b'{"', b"{\n", b"{}", b"[{", b'["', b"[]", b"<?xml", b"SQLite")
_SETTING = re.compile(rb"\s*(?:[\w.\-/\\]{1,60}\s*=|\[[^\]]*\]\s*$|[#;])")
_PROGRAMS = (b"{", b"[", b"<", b"#!", b"%!", b"---\n", b"//", b"/*")


def is_notation(state: LinkState, path: str) -> bool:
    """Whether a file begins as JSON, XML, settings or a database do, or cannot be read."""
    source = state.source_of(path)
    with suppress(SourceError):
        if source is not None:
            head = _begins(state, source.entry(path))
            return not head or head.lstrip().startswith(_NOTATIONS) or _is_settings(head)
    return True


def _is_settings(head: bytes) -> bool:
    """Whether each line is a key with its value, a section or a remark."""
    lines = [line for line in head.splitlines()[: -1 if len(head) == _HEAD else None] if line.strip()]
    return bool(lines) and all(_SETTING.match(line) for line in lines)


def is_prose(state: LinkState, entry: Entry) -> bool:
    """Whether a file begins with words and little else."""
    head = _begins(state, entry)
    encoding = encoding_of(head) if head else None
    if encoding is None or head.lstrip().startswith((*_NOTATIONS, *_PROGRAMS)):
        return False
    text = head.decode(encoding, "replace")
    letters = sum(sign.isalpha() or sign.isspace() for sign in text)
    return len(text.split()) >= _MIN_WORDS and letters >= _MIN_LETTERS * len(text) and "=" not in text[:200]


def _begins(state: LinkState, entry: Entry) -> bytes:
    source = state.source_of(entry.path)
    with suppress(SourceError, OSError):
        if source is not None:
            with source.open(entry) as stream:
                return stream.read(_HEAD)
    return b""
