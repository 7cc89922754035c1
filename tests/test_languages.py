"""What customers read, in ten languages: complete, with the right places, plurals and dates, and nothing left in English."""

from __future__ import annotations

import re
import subprocess
import sys
import tomllib
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest
from babel.core import Locale
from babel.dates import format_date
from conftest import Run, odt, write

from rustfern.core.answers import Said
from rustfern.core.languages import LANGUAGES, words_in
from rustfern.core.remarks import NextStep, Step
from rustfern.reports import customer
from rustfern.selection.wording import step

Rustfern = Callable[..., Run]
OTHERS = sorted({*LANGUAGES} - {"en"})
ROOT = Path(__file__).parents[1]
PROTECTED = tomllib.loads((ROOT / "src/rustfern/catalogue/protections.toml").read_text("utf-8"))["protected"]


def test_nothing_is_missing_and_nothing_lost_a_place() -> None:
    run = subprocess.run([sys.executable, ROOT / "tools/languages.py", "check"], capture_output=True, text=True)
    assert run.returncode == 0, run.stdout + run.stderr


@pytest.mark.parametrize("code", OTHERS)
def test_dates_are_those_of_the_language(code: str) -> None:
    """Held against the Unicode CLDR: the names of months as they stand in a date, and the date's order."""
    words = words_in(code)
    for month in range(1, 13):
        when = datetime(2026, month, 9, 16, 40, tzinfo=UTC)
        told, known = words.time(when), format_date(when, "long", Locale(code)).replace("\u202f", " ")
        assert told.startswith(known) and told.endswith("16:40"), (told, known)


@pytest.mark.parametrize("code", OTHERS)
def test_every_sentence_of_a_case_is_known(code: str) -> None:
    """Also those that are made of a pattern: nothing of them stays English but names, menus and what is typed."""
    words = words_in(code)
    for program in PROTECTED:
        for setting in program.get("settings", ()):
            assert words.has(setting["what"])
            told = customer.by_hand(setting["steps"].replace("{wanted}", "7"), words)
            english = {
                piece
                for each in setting["steps"].split("; ")
                for piece in each.split(": ")
                if re.match(r"(?!set )[a-z]+ [a-z]", piece)
            }
            for piece in english:
                assert piece.replace("{wanted}", "7") not in told, (told, piece)
    many = tuple(f"name{n}" for n in range(30))
    for kind in Step:
        said = NextStep(kind=kind, names=many, text="1b", count=1234, less=2000, copy=0)
        text = step(said)
        assert customer.step(Said(kind=str(kind), text=text), words) != text, text
        assert kind in customer.STEPS or kind is Step.ASK_FOR_ORIGINAL
    for english in (
        *customer.SAYS,
        *(f"an autosave every {n} minutes: that much work can still be lost" for n in (2, 5, 22)),
    ):
        for own in ("", " (its default)"):
            head, colon, tail = english.partition(":")
            sentence = f"{head}{own}{colon}{tail}" if "every" in english else f"{english}{own}"
            told = customer.says(sentence, words)
            assert told != sentence and "default)" not in told and "lost" not in told, told
    for value in ("on", "off", "every 10 minutes", "every second", "every 2 hours", "off (default)", "there is none"):
        assert customer.value(value, words) != value
    for worst in (
        "all unsaved work in Vim, the desktop",
        "10 minutes of work in LibreOffice",
        "1 hour of work in Kate",
    ):
        assert customer.worst(worst, words) != worst


def test_the_patterns_are_those_of_what_is_said() -> None:
    english = words_in("en")
    for kind in Step:
        text = step(NextStep(kind=kind, names=("a", "b"), text="1b", count=3, copy=0))
        assert customer.step(Said(kind=str(kind), text=text), english) == text
        pattern = customer.STEPS.get(kind)
        assert pattern is None or english.values(pattern, text) is not None


@pytest.mark.parametrize(
    ("code", "number", "said"),
    [
        ("pl", 1, "1 słowo"), ("pl", 3, "3 słowa"), ("pl", 12, "12 słów"), ("pl", 22, "22 słowa"), ("uk", 21, "21 слово"), ("uk", 11, "11 слів"),
        ("uk", 4, "4 слова"), ("fr", 0, "0 mot"), ("fr", 2, "2 mots"), ("de", 0, "0 Wörter"), ("ja", 5, "5語"), ("en", 1, "1 word"), ("en", 0, "0 words"),
    ],
)  # fmt: skip
def test_plurals(code: str, number: int, said: str) -> None:
    assert words_in(code).count("{count} word", "{count} words", number) == said


@pytest.mark.parametrize(
    ("settings", "code"),
    [
        ({"LANG": "de_AT.UTF-8"}, "de"), ({"LANG": "C"}, "en"), ({"LANGUAGE": "tlh:pt_BR:en", "LANG": "de_DE"}, "pt"), ({"LC_ALL": "ja_JP"}, "ja"),
        ({"LC_MESSAGES": "sv_SE"}, "en"),
    ],
)  # fmt: skip
def test_the_language_of_the_machine(settings: dict[str, str], code: str, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"):
        monkeypatch.delenv(name, raising=False)
    for name, value in settings.items():
        monkeypatch.setenv(name, value)
    assert words_in(None).code == code and words_in("PT-br").code == "pt"


def test_a_page_in_every_language(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "disk/home/ines"
    write(home / "Documents/<i>survey.odt", odt("keel planks sound"), 1_790_000_000)
    backup = home / ".config/libreoffice/4/user/backup/<i>survey.odt_0.odt"
    write(backup, odt("keel planks sound", "garboard weeps"), 1_790_000_600)
    write(tmp_path / "disk/home/petra/Documents/wages.txt~", "rates of pay\n")
    write(tmp_path / "disk/home/petra/Documents/wages.txt", "rates of pay, spring\n", 1_790_000_000)
    rustfern("scan", tmp_path / "disk")
    rustfern("restore", "1", "--to", tmp_path / "out")
    texts = set(re.findall(r'msgid "(.{14,})"', (ROOT / "src/rustfern/locale/rustfern.pot").read_text("utf-8")))
    for code in LANGUAGES:
        page = tmp_path / f"{code}.html"
        assert rustfern("report", "--to", page, "--person", "ines", "--language", code).status == 0
        text = page.read_text("utf-8")
        body = text.partition("<body>")[2]
        assert f'<html lang="{code}">' in text and "&lt;i&gt;survey" in body and "<i>" not in body
        assert not re.search(r"\{\w+\}", body)
        english = [each for each in texts if each in body]
        assert bool(english) is (code == "en"), english
    wrong = rustfern("report", "--to", tmp_path / "x.html", "--language", "tlh")
    assert wrong.status == 2 and "Deutsch" in wrong.err
