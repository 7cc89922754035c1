"""What customers read, in their language: gettext catalogues, with the plurals, dates and lists of each.

`say` takes sentences with named places for values, as `str.format` does. English is what stands in the code. Source: GNU gettext (catalogues,
plural forms); Unicode CLDR (dates), which the tests hold the catalogues against.
"""

from __future__ import annotations

import gettext
import locale
import os
import re
import sys
from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from pathlib import Path

from rustfern.core.errors import WrongUsage

ENGLISH = "en"
LANGUAGES: Mapping[str, str] = {
    "de": "Deutsch", "en": "English", "es": "español", "fr": "français", "it": "italiano", "ja": "日本語", "nl": "Nederlands", "pl": "polski",
    "pt": "português", "uk": "українська",
}  # fmt: skip
"""Code (ISO 639-1) → its own name."""
DOMAIN, FOLDER = "rustfern", Path(__file__).parents[1] / "locale"
_VARIABLES = ("LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG")
MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December",
)  # fmt: skip
_PLACE = re.compile(r"\{(\w+)\}")


def N_(text: str) -> str:
    """Mark a text to be translated where it is shown."""
    return text


def n_(one: str, many: str) -> tuple[str, str]:
    """Mark a text of one thing and of many to be translated where it is shown."""
    return one, many


class Words:
    """One language."""

    def __init__(self, code: str) -> None:
        self.code = code
        self._catalogue = gettext.translation(DOMAIN, FOLDER, [code], fallback=True)

    def has(self, text: str) -> bool:
        """Whether the catalogue holds a text, with or without plurals; in English always."""
        if self.code == ENGLISH or not text:
            return self.code == ENGLISH
        return self._catalogue.gettext(text) != text or self._catalogue.ngettext(text, text, 2) != text

    def text(self, text: str) -> str:
        """A text as it stands in the catalogue, with its places still open."""
        return self._catalogue.gettext(text) if text else ""

    def plural(self, one: str, many: str, number: int) -> str:
        """The same of one that depends on a number."""
        return self._catalogue.ngettext(one, many, number)

    def say(self, text: str, /, **values: object) -> str:
        """A sentence with its values."""
        return self.text(text).format(**values)

    def count(self, one: str, many: str, number: int, /, **values: object) -> str:
        """A sentence about so many; `{count}` is the number."""
        return self.plural(one, many, number).format(count=number, **values)

    def time(self, when: datetime) -> str:
        """A date and the time of day, of a time on somebody's wall."""
        # Translators: month names as they stand in a date; the order of a date and a time of day.
        month = self.text(MONTHS[when.month - 1])
        return self.say(
            N_("{day} {month} {year}, {clock}"), day=when.day, month=month, year=when.year, clock=f"{when:%H:%M}"
        )

    def listed(self, items: Sequence[str]) -> str:
        """Several things in a row."""
        return self.text(N_("{first}, {second}")).format(first="\0", second="\0").strip("\0").join(items)

    def quoted(self, text: str) -> str:
        """Something that somebody said or wrote, in quotation marks."""
        return self.say(N_("“{text}”"), text=text)

    @staticmethod
    def values(pattern: str, english: str) -> dict[str, str] | None:
        """What stands in the places of an English sentence that was made of a pattern; None where it was not."""
        found = _as_expression(pattern).fullmatch(english)
        return found.groupdict() if found is not None else None


@lru_cache(1024)
def _as_expression(pattern: str) -> re.Pattern[str]:
    parts = _PLACE.split(pattern)
    return re.compile(
        "".join(re.escape(part) if not n % 2 else f"(?P<{part}>.+?)" for n, part in enumerate(parts)), re.DOTALL
    )


def words_in(asked: str | None) -> Words:
    """The language that was asked for (`de`, `pt-BR`), else that of this machine, else English. Raises `WrongUsage` for one that is not there."""
    if asked:
        code = _code(asked)
        if code not in LANGUAGES:
            there = ", ".join(f"{each} ({name})" for each, name in LANGUAGES.items())
            raise WrongUsage(f"there is no catalogue for the language {asked}", None, f"There is: {there}")
        return _words(code)
    return _words(next((code for each in _of_machine() if (code := _code(each)) in LANGUAGES), ENGLISH))


@lru_cache(16)
def _words(code: str) -> Words:
    return Words(code)


def _code(name: str) -> str:
    return re.split(r"[-_.@]", name.strip().casefold(), maxsplit=1)[0]


def _of_machine() -> list[str]:
    """The languages that this machine is set to, the first one first."""
    told = next((value for name in _VARIABLES if (value := os.environ.get(name))), "")
    if told:
        return told.split(":")
    if sys.platform == "win32":
        import ctypes

        shown = ctypes.windll.kernel32.GetUserDefaultUILanguage()
        return [locale.windows_locale.get(shown, "")]
    return [locale.getlocale()[0] or ""]
