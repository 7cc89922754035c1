"""Whose copy it is, tried on the built program: names that fit several documents, moved documents, evidence that contradicts itself."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import WORDS, Run, best_of, by_name, docx, odt, windows_record, write

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
BACKUP = "home/ines/.config/libreoffice/4/user/backup"
WINDOWS = "Users/ivarga/AppData/Roaming/Microsoft/Word"


def prose(seed: int, count: int = 60) -> str:
    rng = random.Random(seed)
    return " ".join(f"{rng.choice(WORDS)}{rng.randrange(60)}" for _ in range(count))


def copy_of(answer: Any, path: str) -> tuple[Any, Any]:
    """(document, copy) of a path, (None, copy) for an unmatched one."""
    for document in answer["documents"]:
        for copy in document["copies"]:
            if copy["path"].endswith(path):
                return document, copy
    return None, next(each for each in answer["unmatched"] if each["path"].endswith(path))


@pytest.mark.parametrize("turned", [False, True])
def test_numbered_autosaves_of_one_name_go_to_one_document_each(
    turned: bool, tmp_path: Path, rustfern: Rustfern
) -> None:
    disk, folders = tmp_path / "disk", ["Surveys", "Orders"]
    for number, folder in enumerate(folders):
        write(disk / "home/ines/Documents" / folder / "plan.odt", odt(prose(number)), T0)
    order = folders[::-1] if turned else folders
    for number, folder in enumerate(order):
        text = f"{prose(folders.index(folder))} and {number} more words"
        write(disk / BACKUP / f"plan.odt_{number}.odt", odt(text), T0 + 60)
    answer = rustfern("scan", disk, "--json").json
    for number, folder in enumerate(order):
        document, copy = copy_of(answer, f"plan.odt_{number}.odt")
        assert document["original"].endswith(f"{folder}/plan.odt") and document["situation"] == "crashed"
        assert copy["confidence"] >= 0.95 and document["best"] == copy["id"]


def test_one_of_two_autosaves_has_no_document_of_its_own(tmp_path: Path, rustfern: Rustfern) -> None:
    """Two documents of one name and three autosaves of it: what fits nowhere is said to be nobody's, not given to one twice."""
    disk = tmp_path / "disk"
    for number, folder in enumerate(("Surveys", "Orders")):
        write(disk / "home/ines/Documents" / folder / "plan.odt", odt(prose(number)), T0)
    for number, seed in enumerate((0, 1, 9)):
        write(disk / BACKUP / f"plan.odt_{number}.odt", odt(prose(seed) + " and more"), T0 + 60)
    answer = rustfern("scan", disk, "--json").json
    owners = [copy_of(answer, f"plan.odt_{number}.odt")[0] for number in range(3)]
    assert owners[0]["original"] != owners[1]["original"]
    assert owners[2]["original"] is None
    assert (
        "its name fits 2 documents" in rustfern("look", owners[2]["best"]).out
        or owners[2]["situation"] == "never-saved"
    )


def test_a_backup_that_stayed_behind_when_its_document_was_moved(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "home/ines/.config/x", "")
    write(disk / "home/ines/Documents/plan.txt~", prose(1), T0)
    moved = write(disk / "home/ines/Documents/Old/plan.txt", prose(1) + " and the rest of it", T0 + 600)
    document = by_name(rustfern("scan", disk, "--json").json, "plan.txt")
    assert document["original"] == str(moved) and document["situation"] == "nothing-lost"
    assert "was moved here from" in document["copies"][1]["evidence"][0]["text"]
    # Another document of that name elsewhere is no proof that it was moved.
    write(moved, prose(2), T0 + 600)
    document = by_name(rustfern("scan", disk, "--json").json, "plan.txt")
    assert document["situation"] == "deleted" and "same-name-elsewhere" in [
        said["kind"] for said in document["cautions"]
    ]
    # Nor is an older one.
    write(moved, prose(1), T0 - 600)
    assert by_name(rustfern("scan", disk, "--json").json, "plan.txt")["situation"] == "deleted"


def test_a_name_that_says_one_thing_and_a_content_that_says_another(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "Users/ivarga/Documents/Hull survey.docx", docx(prose(1)), T0)
    write(disk / "Users/ivarga/Documents/Hull report.docx", docx(prose(3)), T0)
    write(disk / WINDOWS / "Hull%20survey((Autosaved-310190569458189392)).asd", docx(prose(2)), T0 + 60)
    write(disk / WINDOWS / "Hull%20report((Autosaved-310190569458189393)).asd", docx(prose(3) + " more"), T0 + 60)
    answer = rustfern("scan", disk, "--json").json
    doubtful, sure = by_name(answer, "Hull survey.docx"), by_name(answer, "Hull report.docx")
    assert best_of(doubtful)["confidence"] < 0.95 <= best_of(sure)["confidence"]
    against = [piece for piece in best_of(doubtful)["evidence"] if piece["weight"] < 0]
    assert [piece["kind"] for piece in against] == ["other-content"]
    assert "against" in [said["kind"] for said in doubtful["reasons"]]
    assert "against" not in [said["kind"] for said in sure["reasons"]]
    shown = rustfern("look", doubtful["best"])
    assert "no three words in a row" in " ".join(shown.out.split())


def test_a_list_that_names_one_document_and_a_content_of_another(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    plan = write(disk / "home/ines/Documents/plan.odt", odt(prose(1)), T0)
    write(disk / BACKUP / "plan.odt_0.odt", odt(prose(2)), T0 + 60)
    value = '<prop oor:name="{}" oor:op="fuse"><value>{}</value></prop>'
    entry = value.format("OriginalURL", "file:///home/ines/Documents/plan.odt") + value.format(
        "TempURL", f"file:///{BACKUP}/plan.odt_0.odt"
    )
    write(
        disk / BACKUP / "../registrymodifications.xcu",
        '<oor:items xmlns:oor="x"><item oor:path="/org.openoffice.Office.Recovery/RecoveryList"><node oor:name="recovery_item_1" '
        f'oor:op="replace">{entry}{value.format("DocumentState", 513)}</node></item></oor:items>',
        T0,
    )
    document = by_name(rustfern("scan", disk, "--json").json, "plan.odt")
    kinds = {piece["kind"]: piece["weight"] for piece in best_of(document)["evidence"]}
    assert document["original"] == str(plan) and kinds["recovery-list"] > 0 > kinds["other-content"]
    assert "against" in [said["kind"] for said in document["reasons"]]


def test_a_copy_in_one_home_is_not_given_to_another_persons_document(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "Users/tokoro/Documents/Hull survey.docx", docx(prose(1)), T0)
    write(disk / "Users/tokoro/AppData/Roaming/x", "")
    write(disk / WINDOWS / "Hull%20survey((Autosaved-310190569458189392)).asd", docx(prose(2)), T0 + 60)
    document, copy = copy_of(rustfern("scan", disk, "--json").json, ".asd")
    assert document["original"] is None and copy["confidence"] <= 0.6


def test_a_name_that_fits_many_documents_is_not_guessed(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "home/ines/.config/x", "")
    for folder in ("Surveys", "Orders", "Archive"):
        write(disk / "home/ines/Documents" / folder / "plan.txt", prose(1), T0)
        write(disk / "home/ines/Documents" / folder / "#plan.txt#", prose(1) + " more", T0 + 60)
    run = rustfern("restore", "plan", "--in", disk, "--to", tmp_path / "out")
    assert run.status == 1 and "3 documents fit plan" in run.err
    assert all(f"{folder}/plan.txt" in run.err for folder in ("Surveys", "Orders", "Archive"))
    assert not list((tmp_path / "out").glob("*")) if (tmp_path / "out").exists() else True
    assert rustfern("restore", "plan", "--in", disk, "--to", tmp_path / "out", "--document", "Orders").status == 1
    assert rustfern("restore", "Orders plan", "--in", disk, "--to", tmp_path / "out").status == 0


def test_the_hint_that_leaves_everything_out_is_named(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "C/$Recycle.Bin/S-1-5/$RA1B2C3.docx", docx(prose(1)), T0)
    write(disk / "C/$Recycle.Bin/S-1-5/$IA1B2C3.docx", windows_record(2, "C:\\Users\\ivarga\\plan.docx"), T0)
    write(disk / "C/Users/ivarga/AppData/Roaming/x", "")
    found = rustfern("scan", disk, "--older-than", "2020-01-01", "--document", "plan", "--json").json["documents"][0]
    assert found["best"] is None
    assert "left-out" in [said["kind"] for said in found["reasons"]]
    assert found["next_steps"][0]["kind"] == "search-without-limit"
    nobody = rustfern("scan", disk, "--person", "Petra")
    assert nobody.status == 2 and "There is: ivarga" in nobody.err


def test_a_draft_that_was_saved_under_another_name(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(
        disk / "Users/ivarga/AppData/Local/Microsoft/Office/UnsavedFiles/Document1((Unsaved-309876308635267407)).asd",
        docx(prose(4)),
        T0,
    )
    saved = write(disk / "Users/ivarga/Desktop/For the insurer.docx", docx(prose(4) + " with thanks"), T0 + 900)
    write(disk / "Users/ivarga/Documents/other.docx", docx(prose(5)), T0 + 900)
    (document,) = rustfern("scan", disk, "--json").json["documents"]
    assert document["situation"] == "misplaced" and best_of(document)["path"] == str(saved)
    assert "all of its text stands in For the insurer.docx" in " ".join(document["why"])
    restored = rustfern("restore", "1", "--to", tmp_path / "out", "--json").json["restored"][0]
    assert Path(restored["to"]).read_bytes() == saved.read_bytes()
    # Two files that hold it: a template's text, or nobody can tell.
    write(disk / "Users/ivarga/Desktop/For the owner.docx", docx(prose(4) + " kind regards"), T0 + 900)
    assert rustfern("scan", disk, "--json").json["documents"][0]["situation"] == "never-saved"


def test_a_document_that_is_only_in_another_place(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "home/ines/.config/x", "")
    saved = write(disk / "home/petra/Documents/From Ines/Hull survey.odt", odt(prose(6)), T0)
    write(disk / "home/petra/.config/x", "")
    found = rustfern("scan", disk, "--document", "Hull survey", "--happened", "misplaced", "--json")
    document = found.json["documents"][0]
    assert found.status == 0 and document["situation"] == "misplaced"
    assert best_of(document)["path"] == str(saved) and document["best"] is not None
    assert (
        rustfern("scan", disk, "--document", "Hull survey", "--json").json["documents"][0]["situation"]
        == "nothing-lost"
    )


@pytest.mark.parametrize(
    ("name", "data", "state", "said"),
    [
        ("~WRD0003.tmp", docx(prose(7)), "intact", "its own sums prove it whole"),
        ("~WRD0003.tmp", docx(prose(7))[:-40], "damaged", "cut off"),
        ("notes.txt.part", prose(7).encode(), "damaged", "nothing in txt proves it whole"),
    ],
)
def test_what_was_being_written_counts_only_if_it_proves_itself_whole(
    name: str, data: bytes, state: str, said: str, tmp_path: Path, rustfern: Rustfern
) -> None:
    disk = tmp_path / "disk"
    write(disk / "Users/ivarga/AppData/Roaming/x", "")
    write(disk / "Users/ivarga/Documents/Hull survey.docx", docx(prose(7)[:200]), T0)
    write(disk / "Users/ivarga/Documents/notes.txt", prose(7)[:200], T0)
    write(disk / "Users/ivarga/Documents" / name, data, T0 + 5)
    _, copy = copy_of(rustfern("scan", disk, "--json").json, name)
    assert copy["state"] == state
    assert said in copy["reason"] + " ".join(copy.get("notes") or [])
