#!/usr/bin/env python3
"""The catalogues of what customers read: tools/languages.py extract|compile|check

`extract` collects every text into src/rustfern/locale/rustfern.pot and brings the catalogues up to date, `compile` makes the binary ones that the
program reads, `check` fails where a text is missing, doubtful, lacks a place for a value, or where a compiled one is not that of its source.
New texts come out empty: fill in msgstr, then compile.
"""

from __future__ import annotations

import io
import re
import sys
import tomllib
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from babel.messages import Catalog
from babel.messages.extract import extract_from_file
from babel.messages.mofile import read_mo, write_mo
from babel.messages.pofile import read_po, write_po

SOURCE = Path(__file__).parents[1] / "src/rustfern"
LOCALE = SOURCE / "locale"
CODE = ("core/languages.py", "reports/customer.py", "cli/commands/guide.py")
PAGES = ("reports/templates/customer.html.j2",)
KEYWORDS = {"_": None, "N_": None, "n_": (1, 2), "count": (1, 2)}
_WHENEVER = datetime(2026, 1, 1, tzinfo=UTC)
PLACES = re.compile(r"\{(\w+)\}")
_LITERAL = ("on the command line", "as its last line", "Ctrl+E")
"""After these a step gives what is written into a file, as it stands."""


def months() -> Iterator[str]:
    from rustfern.core.languages import MONTHS

    yield from MONTHS


def by_hand() -> Iterator[str]:
    """The prose of how settings are changed by hand, and what they and their programs are called; menus and code stay as they are."""
    told = tomllib.loads((SOURCE / "catalogue/protections.toml").read_text("utf-8"))
    for program in told["protected"]:
        if (
            program["program"][:4] == "the "
            or " program" in program["program"]
            or "OOXML" in program["program"]
            or " and its kin" in program["program"]
        ):
            yield program["program"]
        for setting in program.get("settings", ()):
            yield setting["what"]
            yield from pieces(setting["steps"])


def pieces(steps: str) -> Iterator[str]:
    """The parts of a step that are prose."""
    for piece in steps.split("; "):
        where, colon, what = piece.partition(": ")
        if colon and where[0].islower():
            yield where
        if (
            colon
            and not any(sign in where for sign in _LITERAL)
            and what[:1].islower()
            and (" " in what or what.islower())
        ):
            yield what.replace("{wanted}", "{count}")
        elif not colon and not piece[0].isupper():
            yield piece.replace("{wanted}", "{count}")


def collected() -> Catalog:
    """Every text that is translated."""
    made = Catalog(project="Rust Fern", charset="utf-8", fuzzy=False)
    for name in (*CODE, *PAGES):
        method = "jinja2" if name.endswith(".j2") else "python"
        found = extract_from_file(
            method if method == "python" else "jinja2.ext:babel_extract",
            SOURCE / name,
            keywords=KEYWORDS,
            options={"trimmed": "true"},
        )
        for line, text, _, _ in found:
            parts = text if isinstance(text, tuple) else (text,)
            if all(parts) and parts[0].strip():
                made.add(text, locations=[(name, line)])
    for text in (*months(), *dict.fromkeys(by_hand())):
        if re.fullmatch(r"every \{count\} (?:minutes|seconds|milliseconds)", text):
            continue  # told with their number
        made.add((text, text) if "{count}" in text else text, locations=[("catalogue/protections.toml", 0)])
    return made


def catalogues() -> Iterator[tuple[str, Path]]:
    from rustfern.core.languages import ENGLISH, LANGUAGES

    for code in LANGUAGES:
        if code != ENGLISH:
            yield code, LOCALE / code / "LC_MESSAGES/rustfern.po"


def read(path: Path, code: str) -> Catalog:
    return read_po(io.BytesIO(path.read_bytes()), locale=code)


def written(catalogue: Catalog) -> bytes:
    catalogue.header_comment = "# What customers read of Rust Fern."
    out = io.BytesIO()
    write_po(out, catalogue, omit_header=False, width=120, ignore_obsolete=True, include_lineno=False, sort_output=True)
    return re.sub(
        rb'"(?:Project-Id-Version|POT-Creation-Date|PO-Revision-Date|Generated-By|Last-Translator|Language-Team|Report-Msgid-Bugs-To):[^\n]*\n',
        b"",
        out.getvalue(),
    )


def compiled(catalogue: Catalog) -> bytes:
    # The same bytes whenever they are made.
    catalogue.creation_date = catalogue.revision_date = _WHENEVER
    catalogue.project, catalogue.version = "Rust Fern", "1"
    catalogue.last_translator = catalogue.language_team = "The Rust Fern authors"
    out = io.BytesIO()
    write_mo(out, catalogue)
    return out.getvalue()


def spoken(data: bytes) -> dict[str, list[str]]:
    """What a compiled catalogue says, whichever version of the tool wrote it."""
    return {repr(message.id): list(message.string) for message in read_mo(io.BytesIO(data)) if message.id}


def extract() -> None:
    LOCALE.mkdir(exist_ok=True)
    template = collected()
    (LOCALE / "rustfern.pot").write_bytes(written(template))
    for code, path in catalogues():
        path.parent.mkdir(parents=True, exist_ok=True)
        now = (
            read(path, code)
            if path.exists()
            else Catalog(locale=code, project="Rust Fern", charset="utf-8", fuzzy=False)
        )
        now.update(template, no_fuzzy_matching=True)
        path.write_bytes(written(now))


def faults() -> Iterator[str]:
    """What is wrong with the catalogues."""
    wanted = {
        message.id if isinstance(message.id, str) else message.id[0]: message for message in collected() if message.id
    }
    for code, path in catalogues():
        catalogue = read(path, code)
        there = {
            message.id if isinstance(message.id, str) else message.id[0]: message for message in catalogue if message.id
        }
        for text, message in wanted.items():
            mine = there.get(text)
            if mine is None or mine.fuzzy:
                yield f"{code}: missing: {text}"
                continue
            strings = mine.string if isinstance(mine.string, tuple | list) else [mine.string]
            if isinstance(message.id, tuple) and len(strings) != catalogue.num_plurals:
                yield f"{code}: {len(strings)} of {catalogue.num_plurals} forms: {text}"
            many = message.id[1] if isinstance(message.id, tuple) else text
            for string in strings:
                if not string:
                    yield f"{code}: missing: {text}"
                places = set(PLACES.findall(string))
                # A form for one need not say the number.
                if string and not (
                    set(PLACES.findall(text)) - {"count"}
                    <= places
                    <= set(PLACES.findall(many)) | set(PLACES.findall(text))
                ):
                    yield f"{code}: other places for values: {text}: {string}"
        yield from (f"{code}: nobody asks for: {text}" for text in there.keys() - wanted.keys())
        mo = path.with_suffix(".mo")
        if not mo.exists() or spoken(mo.read_bytes()) != spoken(compiled(catalogue)):
            yield f"{code}: {mo.name} is not that of its source: tools/languages.py compile"


def main() -> int:
    what = sys.argv[1] if len(sys.argv) == 2 else ""
    if what == "extract":
        extract()
    elif what == "compile":
        for code, path in catalogues():
            path.with_suffix(".mo").write_bytes(compiled(read(path, code)))
    elif what == "check":
        found = list(faults())
        print("\n".join(found[:50]) or "complete")
        return 1 if found else 0
    else:
        print(__doc__)
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main())
