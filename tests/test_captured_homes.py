"""Captured homes of known truth: the right document, best copy, links and restored words; with hints and without."""

from __future__ import annotations

import gzip
import json
import os
import re
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import HOMES, Run, best_of

CASES = sorted(path.name.removesuffix(".tar.gz") for path in HOMES.glob("*.tar.gz"))
HAPPENED = {"crash": "crashed", "overwritten": "overwritten", "deleted": "deleted", "damaged": "wont-open"}


def truth_of(case: str) -> Any:
    return json.loads((HOMES / f"{case}.json").read_text())


BLIND = [case for case in CASES if truth_of(case)["loss"] != "overwritten"]


def words_in(path: Path) -> str:
    data = path.read_bytes()
    texts = [
        data.decode("utf-8", "replace"),
        data.decode("utf-16-le", "replace"),
        data[1:].decode("utf-16-le", "replace"),
    ]
    texts.append(data.decode("latin-1"))
    if data[:2] == b"\x1f\x8b":
        texts.append(gzip.decompress(data).decode("utf-8", "replace"))
    if data[:2] == b"PK":
        with zipfile.ZipFile(path) as package:
            for name in package.namelist():
                part = package.read(name)
                texts += [re.sub(r"<[^>]+>", "", part.decode("utf-8", "replace")), part.decode("utf-16-le", "replace")]
                texts.append(part[1:].decode("utf-16-le", "replace"))
    return "\n".join(texts)


def chosen(answer: Any, truth: Any, root: Path) -> Any:
    """The chosen copy of the document of the truth."""
    wanted = {str(root / path) for path in [truth["best"], *truth.get("acceptable", [])]}
    if truth["document"]:
        mine = [d for d in answer["documents"] if d["original"] == str(root / truth["document"])]
    else:
        mine = [d for d in answer["documents"] if not d["original"] and best_of(d) and best_of(d)["path"] in wanted]
    assert len(mine) == 1
    best = best_of(mine[0])
    assert best is not None and best["path"] in wanted, (best and best["path"], wanted)
    return best


@pytest.mark.parametrize("case", [c for c in CASES if truth_of(c)["loss"] != "none"])
def test_hinted_choice_and_restored_words(
    case: str, home: Callable[[str], Path], rustfern: Callable[..., Run], tmp_path: Path
) -> None:
    truth, root = truth_of(case), home(case)
    happened = HAPPENED.get(truth["loss"]) or ("crashed" if truth["document"] else "never-saved")
    run = rustfern("scan", root, "--document", truth["document_name"], "--happened", happened, "--json")
    assert run.status == 0
    best = chosen(run.json, truth, root)
    assert best["state"] == "intact"
    restored = rustfern("restore", best["id"], "--to", tmp_path / "out", "--json")
    assert restored.status == 0
    row = restored.json["restored"][0]
    assert row["from"] == best["path"] and row["sha256"] == best["sha256"] and row["state"] == "intact"
    text = words_in(Path(row["to"]))
    for marker in truth.get("marker_unsaved", []):
        assert marker in text


@pytest.mark.parametrize("case", BLIND)
def test_blind_choice(case: str, home: Callable[[str], Path], rustfern: Callable[..., Run]) -> None:
    truth, root = truth_of(case), home(case)
    run = rustfern("scan", root, "--json")
    if truth["loss"] == "none":
        assert run.status == 1
        assert [d["name"] for d in run.json["documents"] if d["situation"] != "nothing-lost"] == []
    else:
        chosen(run.json, truth, root)


@pytest.mark.parametrize("case", CASES)
def test_links_and_states(case: str, home: Callable[[str], Path], rustfern: Callable[..., Run]) -> None:
    truth, root = truth_of(case), home(case)
    answer = rustfern("scan", root, "--json").json
    where: dict[str, set[str | None]] = {}
    owners: dict[str, str | None] = {}
    for document in answer["documents"]:
        for item in [*document["copies"], *document["locks"], *document["records"]]:
            where.setdefault(item["path"], set()).add(document["original"])
            owners[item["path"]] = item.get("owner")
    for item in answer["unmatched"]:
        where.setdefault(item["path"], set()).add(None)
    for link in truth.get("links", []):
        path = str(root / link["remnant"])
        if link["remnant"] in truth.get("guessed", []):
            continue
        if link["original"]:
            assert str(root / link["original"]) in where.get(path, set()), link
        else:
            assert all(found is None or not os.path.lexists(found) for found in where.get(path, set())), link
        if link.get("owner") and link["kind"] == "lock":
            assert owners[path] == link["owner"]
    intact = {copy["path"] for d in answer["documents"] for copy in d["copies"] if copy["state"] == "intact"}
    assert not intact & {str(root / path) for path in truth.get("not_intact", [])}


def test_two_documents_of_one_name_without_the_list(home: Callable[[str], Path], rustfern: Callable[..., Run]) -> None:
    """Killed before the recovery list was flushed: the text tells the two autosaves apart."""
    root = home("office-same-name-two-folders")
    settings = next(root.rglob("registrymodifications.xcu"))
    settings.write_bytes(re.sub(rb'(oor:name="TempURL"[^>]*><value>)[^<]*', rb"\1", settings.read_bytes()))
    answer = rustfern("scan", root, "--json").json
    found = {
        d["original"].split("/")[-2]: Path(best_of(d)["path"]).name
        for d in answer["documents"]
        if d["name"] == "mooring-plan.odt"
    }
    assert found == {"West basin": "mooring-plan.odt_0.odt", "East basin": "mooring-plan.odt_1.odt"}


VARIANTS = {
    # what is done to the home of a crashed text → (situation, file name of the best copy)
    "list gone": (lambda r: next(r.rglob("registrymodifications.xcu")).unlink(), "crashed", "hull-survey-kittiwake.odt_0.odt"),
    "list cut": (lambda r: _cut(next(r.rglob("registrymodifications.xcu")), 0.4), "crashed", "hull-survey-kittiwake.odt_0.odt"),
    "autosave cut": (lambda r: _cut(next(r.rglob("*_0.odt")), 0.6), "crashed", "hull-survey-kittiwake.odt"),
    "newest empty": (lambda r: next(r.rglob("*_0.odt")).with_name("hull-survey-kittiwake.odt_1.odt").touch(), "crashed", "hull-survey-kittiwake.odt_0.odt"),
    "original gone": (lambda r: next(r.rglob("Surveys/hull-survey-kittiwake.odt")).unlink(), "crashed", "hull-survey-kittiwake.odt_0.odt"),
    "lock empty": (lambda r: next(r.rglob(".~lock.hull*")).write_bytes(b""), "crashed", "hull-survey-kittiwake.odt_0.odt"),
    "moved folder": (lambda r: _move_backups(r), "crashed", "hull-survey-kittiwake.odt_0.odt"),
    "saved damaged": (lambda r: _cut(next(r.rglob("Surveys/hull-survey-kittiwake.odt")), 0.5), "wont-open", "hull-survey-kittiwake.odt_0.odt"),
}  # fmt: skip


def _cut(path: Path, share: float) -> None:
    data = path.read_bytes()
    facts = path.stat()
    path.write_bytes(data[: int(len(data) * share)])
    os.utime(path, ns=(facts.st_atime_ns, facts.st_mtime_ns))


def _move_backups(root: Path) -> None:
    folder = next(root.rglob("backup"))
    folder.rename(root / "home" / "ines" / "safety")
    settings = next(root.rglob("registrymodifications.xcu"))
    settings.write_bytes(settings.read_bytes().replace(b"/.config/libreoffice/4/user/backup/", b"/safety/"))


@pytest.mark.parametrize("variant", sorted(VARIANTS))
def test_variants_of_a_crash(variant: str, home: Callable[[str], Path], rustfern: Callable[..., Run]) -> None:
    change, situation, best = VARIANTS[variant]
    root = home("office-writer-odt-crash")
    change(root)
    run = rustfern("scan", root, "--json")
    document = next(d for d in run.json["documents"] if d["name"] == "hull-survey-kittiwake.odt")
    assert (document["situation"], Path(best_of(document)["path"]).name) == (situation, best)
    if variant == "autosave cut":
        assert "last-words-gone" in [said["kind"] for said in document["cautions"]]


def test_never_saved_by_the_list(home: Callable[[str], Path], rustfern: Callable[..., Run]) -> None:
    root = home("office-writer-odt-crash")
    autosave = next(root.rglob("*_0.odt"))
    autosave.rename(autosave.with_name("untitled_0.odt"))
    settings = next(root.rglob("registrymodifications.xcu"))
    data = settings.read_bytes().replace(b"hull-survey-kittiwake.odt_0.odt", b"untitled_0.odt")
    data = data.replace(
        b"<value>file:///home/ines/Documents/Surveys/hull-survey-kittiwake.odt</value>", b"<value></value>"
    )
    settings.write_bytes(data.replace(b"<value>hull-survey-kittiwake.odt</value>", b"<value>Unbenannt 1</value>"))
    answer = rustfern("scan", root, "--json").json
    document = next(d for d in answer["documents"] if d["situation"] == "never-saved")
    assert document["name"] == "Unbenannt 1" and document["original"] is None
    assert Path(best_of(document)["path"]).name == "untitled_0.odt"
