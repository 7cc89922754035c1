"""One page of all that was found, to choose from: filtered and sorted in it, ticks make the line that restores. Without a network."""

from __future__ import annotations

import base64
import hashlib
import os
import shlex
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from rustfern.core.paths import show_name
from rustfern.core.times import Clock, from_stamp, stamp
from rustfern.operations.choose_page import Card
from rustfern.operations.raw_search import shown_bytes

_TEMPLATES = Path(__file__).parent / "templates"
_TITLES = {
    "text": "Texts", "sheet": "Sheets", "page": "Pages (PDF)", "slides": "Slides", "notes": "Notes", "mail": "Mail", "drawing": "Drawings", "image": "Pictures",
    "cad": "Models and plans", "audio": "Sound", "video": "Films", "database": "Databases", "code": "Code and data", "other": "Archives and others",
}  # fmt: skip


class Group(msgspec.Struct, frozen=True):
    """The cards of one class of documents."""

    doc_class: str
    title: str
    cards: tuple[Card, ...]


def page(cards: Iterable[Card], roots: Iterable[str], case: str | None, clock: Clock) -> str:
    """The page. What comes from the disk stands in it as text only; the page allows no script and no style but its own, told by their sums."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined
    from markupsafe import Markup

    found = list(cards)
    groups = [
        Group(
            name, title, tuple(sorted((each for each in found if each.doc_class == name), key=lambda each: each.number))
        )
        for name, title in _TITLES.items()
    ]
    style, script = ((_TEMPLATES / f"choose.{ending}").read_text("utf-8") for ending in ("css", "js"))
    environment = Environment(
        loader=FileSystemLoader(_TEMPLATES), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )  # fmt: skip
    filters: dict[str, Any] = {
        "time": lambda written: f"{clock.local(from_stamp(written)):%Y-%m-%d %H:%M}",
        "bytes": shown_bytes,
        "name": lambda text: show_name(str(text)),
        "length_of": _length,
    }
    environment.filters.update(filters)
    return environment.get_template("choose.html.j2").render(
        groups=[each for each in groups if each.cards], total=len(found), roots=[show_name(os.path.basename(root) or root) for root in roots],
        style=Markup(style), script=Markup(script), style_sum=_sum(style), script_sum=_sum(script), command="rustfern restore",
        case_words=f" --case {show_name(shlex.quote(case))}" if case else "",
        now=f"{clock.local(from_stamp(stamp(datetime.now(UTC)) or '')):%Y-%m-%d %H:%M}",
    )  # fmt: skip


def _sum(text: str) -> str:
    """The sum by which a page allows its own script. Source: W3C Content Security Policy 3, 2.3.1 (hash-source)."""
    return "sha256-" + base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _length(seconds: float) -> str:
    minutes, rest = divmod(round(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02}:{rest:02}" if hours else f"{minutes}:{rest:02}"
