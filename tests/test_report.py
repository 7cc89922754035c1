"""The paper that is handed over: right, readable by the customer alone, one file, never over another."""

from __future__ import annotations

import csv
import os
import re
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, docx, odt, write

Rustfern = Callable[..., Run]
T0 = 1_790_000_000


@pytest.fixture
def disk(tmp_path: Path, rustfern: Rustfern) -> Path:
    top = tmp_path / "disk"
    for person, name in (("ines", "<b>hull<b> & keel.odt"), ("petra", "wages.odt")):
        write(top / "home" / person / ".config/x", "")
        write(top / "home" / person / "Documents" / name, odt("keel planks sound"), T0)
        write(
            top / "home" / person / ".config/libreoffice/4/user/backup" / f"{name}_0.odt",
            odt("keel planks sound", "garboard seam weeps at frame seven"),
            T0 + 600,
        )
    rustfern("scan", top)
    return top


def test_the_customers_page_names_only_their_own_files(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    both = rustfern("report", "--to", tmp_path / "both.html")
    assert both.status == 2 and "--person: ines, petra" in both.err and not (tmp_path / "both.html").exists()
    rustfern("restore", "keel", "--to", tmp_path / "out")
    page = tmp_path / "ines.html"
    run = rustfern("report", "--to", page, "--person", "ines", "--ticket", "<i>4711", "--technician", "T. Okoro")
    text = page.read_text("utf-8")
    assert run.status == 0 and "ines.html" in run.out
    assert (
        "Your document is back" in text and "You have it back as it was on 21 September 2026, 14:23, 9 words." in text
    )
    assert "What was done after 21 September 2026, 14:23 is not in it." in text
    assert "wages" not in text and "Those of petra are not on it" in text and "confidence" not in text
    assert f"It lies in <b>{tmp_path / 'out'}</b>" in text and "Leave it so" not in text  # no setting was read
    assert "&lt;b&gt;hull&lt;b&gt; &amp; keel.odt" in text and "<b>hull" not in text and "<i>4711" not in text
    assert not re.search(r"(src|href)\s*=|url\(|https?:", text)
    again = rustfern("report", "--to", page, "--person", "ines")
    assert again.status == 2 and "not replaced" in again.err and page.read_text("utf-8") == text


def test_the_page_says_what_is_not_back_and_what_became_another_format(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "disk/home/ines"
    for name in ("survey.docx", "plan.odt"):
        write(
            home / "Documents" / name,
            odt("keel planks sound") if name.endswith("odt") else docx("keel planks sound"),
            T0,
        )
        write(
            home / ".config/libreoffice/4/user/backup" / f"{name}_0.odt",
            odt("keel planks sound", "garboard weeps"),
            T0 + 600,
        )
    rustfern("scan", tmp_path / "disk")
    rustfern("report", "--to", tmp_path / "before.html")
    before = (tmp_path / "before.html").read_text("utf-8")
    assert "Open each file" not in before and "until your files are copied out" in before
    rustfern("restore", "survey", "--to", tmp_path / "out")
    rustfern("report", "--to", tmp_path / "after.html")
    after = (tmp_path / "after.html").read_text("utf-8")
    assert "are not copied out yet: plan.odt" in after and "opens as another kind of file than before" in after


def test_the_record_holds_all_that_was_done(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    restored = rustfern("restore", "1", "--to", tmp_path / "out", "--json").json["restored"][0]
    rustfern("report", "--for", "record", "--to", tmp_path / "r.html", "--consent", "by telephone")
    text = (tmp_path / "r.html").read_text("utf-8")
    for part in (restored["sha256"], "by telephone", str(disk), "ines, petra", "Zone", "wages.odt", "1b chosen", "leftovers belong to no document",
                 "Technician, date", "its name holds the whole name"):  # fmt: skip
        assert part in text, part


def test_tables_and_programs(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    write(disk / "home/ines/Documents/=cmd().odt", odt("x y z"), T0)
    write(disk / "home/ines/Documents/=cmd().odt~", odt("x y z and more"), T0 + 5)
    rustfern("scan", disk)
    rustfern("report", "--to", tmp_path / "t.csv")
    assert rustfern("report", "--csv").out.splitlines() == (tmp_path / "t.csv").read_text("utf-8").splitlines()
    rows = list(csv.DictReader((tmp_path / "t.csv").open(encoding="utf-8", newline="")))
    assert {row["document"] for row in rows} == {"<b>hull<b> & keel.odt", "wages.odt", "'=cmd().odt"}
    assert [row["best"] for row in rows if row["document"] == "wages.odt"] == ["", "yes"]
    found = rustfern("report", "--json", "--person", "petra").json
    assert found["schema"] == "rustfern/report-1" and [d["name"] for d in found["documents"]] == ["wages.odt"]


def test_nothing_found_is_a_page_too(tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "disk/home/ines/.config/x", "")
    rustfern("scan", tmp_path / "disk")
    rustfern("report", "--to", tmp_path / "n.html")
    assert "No lost document was found" in (tmp_path / "n.html").read_text("utf-8")


def test_what_cannot_be_written_is_said(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    wrong = [
        (("--to", tmp_path / "no/such/r.html", "--for", "record"), "cannot be written"), (("--to", tmp_path / "r.doc"), ".html or .csv"), ((), "was not given"),
        (("--to", tmp_path / "r.html", "--person", "nobody"), "There is: ines, petra"),
    ]  # fmt: skip
    for options, said in wrong:
        run = rustfern("report", *options)
        assert run.status == 2 and said in run.err, options
    empty = tmp_path / "e.fern"
    os.close(os.open(empty, os.O_CREAT))
    assert rustfern("report", "--case", empty, "--to", tmp_path / "x.html").status == 2
