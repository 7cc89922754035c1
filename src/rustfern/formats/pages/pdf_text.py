"""The text of PDF pages and the values of form fields, for showing them; the verdict on the document is not given here.

Source: ISO 32000-1, 9.10 (extraction of text) and 12.7 (forms), through pypdf, which goes on where a document is damaged.
"""

from __future__ import annotations

import io
import logging
import time
from typing import Any, BinaryIO

from rustfern.formats.text_sink import TextSink

_MAX_SECONDS = 20.0
"""Seconds spent on one document at most."""
_MAX_BYTES = 256 << 20
_FULL_LINE = 0.8
"""A line of this share of the page's longest one goes on in the next."""
_MAX_FIELDS = 5_000


def show(stream: BinaryIO, sink: TextSink) -> None:
    """Hand on the text page by page, then the filled fields, as far as they can be read. Never raises."""
    import pypdf

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    if stream.seek(0, io.SEEK_END) > _MAX_BYTES:
        return
    stream.seek(0)
    data = io.BytesIO(stream.read())
    try:
        reader = pypdf.PdfReader(data, strict=False)
        until = time.monotonic() + _MAX_SECONDS
        for number, page in enumerate(reader.pages, 1):
            sink.section = f"Page {number}"
            for text in _paragraphs(_text(page)):
                sink.show(text)
            if sink.full or time.monotonic() > until:
                break
        sink.section = ""
        for name, value in _fields(reader):
            sink.show(value, "field", label=name)
    except Exception:  # what is left of a damaged document leads such a reader anywhere
        return


def _text(page: Any) -> str:
    try:
        return str(page.extract_text())
    except Exception:  # one page that cannot be read: the others may be
        return ""


def _paragraphs(text: str) -> list[str]:
    """Lines put together where one was full."""
    lines = [line.strip() for line in text.splitlines()]
    longest = max(map(len, lines), default=0)
    out: list[str] = []
    goes_on = False
    for line in lines:
        if goes_on and line and out:
            out[-1] += " " + line
        elif line:
            out.append(line)
        goes_on = bool(line) and len(line) >= _FULL_LINE * longest and line[-1:] not in ".:!?"
    return out


def _fields(reader: Any) -> list[tuple[str, str]]:
    found: list[tuple[str, str]] = []
    for name, facts in list((reader.get_fields() or {}).items())[:_MAX_FIELDS]:
        value = facts.get("/V")
        if value not in (None, "", "/Off"):
            found.append((str(facts.get("/TU") or name), str(value).removeprefix("/")))
    return found
