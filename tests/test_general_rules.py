"""Leftovers of programs that nobody listed: names beside documents, folders of programs, lists of any form, texts without a name."""

from __future__ import annotations

import hashlib
import io
import json
import os
import plistlib
import sqlite3
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from conftest import Run, best_of, by_name, odt, packed, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.catalogue.loader import catalogue
from rustfern.catalogue.untitled import is_untitled
from rustfern.search import neighbours
from rustfern.search.path_sums import PathSums
from rustfern.search.program_folders import is_of_programs
from rustfern.search.told_names import OwnNames, WholePaths, sums_in
from rustfern.traces import path_index

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
TEXT = "the garboard seam was raked out and payed with marine glue from the stem to frame seven\n"
MORE = TEXT + "two ribs are to be sistered in larch before the launch on the fourteenth\n"
DOCUMENTS = ("gate code.txt", "keys.txt", "plan.odt", "slip ledger.gnucash", "README.md", "a.txt")
PICTURE = packed("media.tar.xz")["plan.png"]
AUTOSAVE, BACKUP, TEMPORARY = neighbours.AUTOSAVE, neighbours.BACKUP, neighbours.TEMPORARY


@pytest.mark.parametrize(
    ("name", "place", "document"),
    [
        ("gate code.txt.ZILESAVE", AUTOSAVE, "gate code.txt"), (".keys.txt.kak.Z3Yo5r", TEMPORARY, "keys.txt"),
        ("slip ledger.gnucash.20261128082329.gnucash", BACKUP, "slip ledger.gnucash"), ("plan (autosaved).odt", AUTOSAVE, "plan.odt"),
        ("slip ledger.gnucash.20261128082216.log", neighbours.LOG, "slip ledger.gnucash"), ("plan.odt.lck", neighbours.LOCK, "plan.odt"),
        ("plan_backup_20260101.odt", BACKUP, "plan.odt"), ("Sicherungskopie von plan.odt", BACKUP, "plan.odt"), ("plan.odt.new", TEMPORARY, "plan.odt"),
        ("plan.autosave", AUTOSAVE, "plan.odt"), ("plan.odt.1", BACKUP, "plan.odt"), ("plan.odt_0.odt", BACKUP, "plan.odt"), ("plan.old", BACKUP, "plan.odt"),
        ("черновик plan.odt", AUTOSAVE, "plan.odt"), ("plan-recovered.odt", AUTOSAVE, "plan.odt"), ("plan 备份.odt", BACKUP, "plan.odt"),
        ("a.txt.sb-12ab34cd-XyZ123", TEMPORARY, "a.txt"), ("lost.docx.autosave", AUTOSAVE, "lost.docx"), ("#plan.odt#", AUTOSAVE, "plan.odt"),
        *((name, None, None) for name in (
            "plan 2.odt", "Copy of plan.odt", "old plan.odt", "golden plan.odt", "README.md.asc", "README.md.html", "README.de.md", "a.txt.gz",
            "._plan.odt", "planold.odt", "plan_2026-11-28.odt", "Save plan.odt", "backup.odt", "a.txt.torrent", "recovery manual.odt",
            "plan.odt-Curves.png")),
    ],
)  # fmt: skip
def test_names_that_hold_a_neighbours(name: str, place: str | None, document: str | None) -> None:
    names = [*DOCUMENTS, name]
    endings = {os.path.splitext(each)[1] for each in DOCUMENTS}
    found = list(neighbours.named_after(neighbours.suspects(names, "/" + "/".join(names) + "/", endings), DOCUMENTS))
    assert [(each.place, each.document) for each in found] == ([(place, document)] if place else [])
    assert not any(each.unsure for each in found)


def test_a_word_of_copies_that_the_document_has_too_is_rather_its_subject() -> None:
    documents = {"panic of a resumed task.html", "task.html", "util.py", "plan.odt"}
    for name, unsure in (
        ("backup_util.py", True),
        ("util_backup.py", False),
        ("backup_plan.odt", False),
        ("panic of a resumed task_panic.html", True),
        ("task_autosaved.html", False),
        ("task_panic.html", True),
    ):
        (found,) = neighbours.named_after([name], documents)
        assert found.document in documents and found.unsure is unsure


@given(
    st.lists(st.text(st.characters(exclude_characters="/\0"), min_size=1, max_size=30), max_size=12),
    st.sets(st.sampled_from(DOCUMENTS)),
)
def test_no_name_is_too_strange(names: list[str], documents: set[str]) -> None:
    names = [*names, *documents]
    whole = "/" + "/".join(names) + "/"
    for each in neighbours.named_after(neighbours.suspects(names, whole, {".odt", ".txt"}), documents):
        assert each.name in names and each.document != each.name


PAIRS = [("/home/ines/Documents/a b.txt", "copy1"), ("/home/ines/Documents/c.md", "d4")]
ESCAPED = [(path.replace("/", "\\/"), copy) for path, copy in PAIRS]
URIS = [("file://" + path.replace(" ", "%20"), copy) for path, copy in PAIRS]


@pytest.mark.parametrize(
    ("text", "form"),
    [
        (json.dumps([{"path": p, "backup": c} for p, c in PAIRS]), "objects"),
        ("[" + ",".join(f'{{"p":"{p}","c":"{c}"}}' for p, c in ESCAPED) + "]", "escaped slashes"),
        ("".join(f"[{c}]\npath={p}\n" for p, c in PAIRS), "sections"),
        ("".join(f"{c}={p}\n" for p, c in PAIRS), "keys"),
        ("".join(f"- file: {p}\n  copy: {c}\n" for p, c in PAIRS), "lists"),
        (repr(dict(PAIRS)), "a literal"),
        ("(" + " ".join(f'("{p}" . "{c}")' for p, c in PAIRS) + ")", "pairs"),
        ("".join(f'<f href="{p}"><copy>{c}</copy></f>' for p, c in URIS), "tags"),
        ("".join(f"X-File: {p}\nX-Copy: {c}\n\n" for p, c in PAIRS), "headers"),
        ("\n".join(f"{p}\t/home/ines/.prog/auto/{c}" for p, c in PAIRS), "lines with whole paths"),
        ("\0".join(part for pair in PAIRS for part in pair), "text with zero bytes"),
        (path_index.text_of(plistlib.dumps([{"path": p, "to": c} for p, c in PAIRS], fmt=plistlib.FMT_BINARY)), "a property list"),
        (path_index.text_of("\r\n".join(f"{p}\t{c}" for p, c in PAIRS).encode("utf-16")), "UTF-16"),
    ],
)  # fmt: skip
def test_lists_of_any_form(text: str, form: str) -> None:
    found = path_index.parse(text, {"copy1", "d4", "list"}, {"auto"})
    assert [(each.document.removeprefix("file://"), each.copy) for each in found] == PAIRS, form


@given(st.text(max_size=400) | st.binary(max_size=400).map(path_index.text_of))
def test_no_list_is_too_strange(text: str) -> None:
    assert all(each.copy in {"a", "/b.c"} for each in path_index.parse(text, {"a", "/b.c"}, {"f"}))


def test_whole_paths_and_their_sums() -> None:
    documents = [
        "/r/home/ines/Documents/Überholung Möwe.md",
        "/r/home/ines/Documents/my-notes_v2.txt",
        "/r/home/ines/old/my-notes_v2.txt",
    ]
    paths = WholePaths(documents)
    for name, wanted in [
        ("%home%ines%Documents%Überholung Möwe.md", 0), ("!home!ines!Documents!my-notes_v2.txt", 1), ("home_ines_old_my-notes_v2.txt~", 2),
        ("%2Fhome%2Fines%2FDocuments%2Fmy-notes_v2.txt.bak", 1), ("my-notes_v2.txt", None), ("x-my-notes_v2.txt", None), ("a%b%c", None),
    ]:  # fmt: skip
        assert paths.find(name) == (None if wanted is None else documents[wanted]), name
    own = "/home/ines/a b.txt"
    for text in (own, "file:///home/ines/a%20b.txt"):
        for kind in ("md5", "sha1", "sha256"):
            digest = hashlib.new(kind, text.encode()).hexdigest()
            for written in (digest, digest[:16], digest.upper()):
                said = sums_in(f"{written}-1.bak", "saves")
                # Taken ahead of all others, of other names than those that are asked for, and only then.
                for ahead in ([own[11:]], ["other", "b"], None):
                    sums = PathSums()
                    if ahead:
                        sums.add("/home/ines/", ahead)
                        assert sums.take() and not sums.take()
                    found = sums.find([("/r", "/", ["other"]), ("/r/home/ines", "/home/ines/", [own[11:]])], said)
                    assert found == {said[0]: "/r" + own}, ahead
    strange = os.fsdecode(b"/home/ines/a\xff.txt")  # no Unicode
    digest = hashlib.md5(b"file:///home/ines/a%FF.txt").hexdigest()
    assert PathSums().find([("/r/home/ines", "/home/ines/", [strange[11:]])], [digest]) == {digest: "/r" + strange}
    long = "/home/ines/Documents/Surveys and reports of the season/hull survey of the ketch Saltern Lass.txt"
    cut = WholePaths([*documents, "/r" + long, "/r" + long.replace("Lass", "Gull")])
    assert cut.begun(long.replace("/", "%")[:90] + "-3f2a91bc") == ["/r" + long]
    assert cut.begun(long.replace("/", "!")[:70] + "~") == ["/r" + long.replace("Lass", "Gull"), "/r" + long]
    assert not cut.begun("https%3A%2F%2Fpictures.example%2Fa%2Fvery%2Flong%2Faddress%2Fof%2Fa%2Fpicture.png")


def test_names_inside_of_names() -> None:
    own = OwnNames(["launch schedule.txt", "plan.odt", "slip.txt", "README.md"])
    for name, held in [
        ("DUMP-1-launch schedule.txt.22802", {"launch schedule.txt"}), ("launch-schedule.txt", {"launch schedule.txt"}), ("launch schedule.bak", {"launch schedule.txt"}),
        ("1a2b_plan.odt", {"plan.odt"}), ("complan.odt", None), ("plan.odt.x", {"plan.odt"}), ("plan.odty", None), ("README.md", None), ("plan", None),
    ]:  # fmt: skip
        assert own.find(name.casefold()) == ({0: held} if held else {}), name
    assert own.find("a/plan.odt/b") == {1: {"plan.odt"}}
    homes = ["/r/home/ines"]
    for folder, is_it in [
        (".config/x", True),
        (".cache/x/Cache", False),
        ("Documents", False),
        (".x/node_modules", False),
        ("AppData/Local/X", True),
    ]:
        assert is_of_programs(f"/r/home/ines/{folder}", homes) is is_it


@pytest.mark.parametrize(
    ("name", "untitled"),
    [
        ("Untitled-1", True),
        ("Unbenannt 2.odt", True),
        ("Без имени 1", True),
        ("無題.txt", True),
        ("sans titre", True),
        ("Untitled poem", False),
        ("a", False),
    ],
)
def test_texts_without_a_name(name: str, untitled: bool) -> None:
    assert is_untitled(name) is untitled


def _database(path: Path, document: str, copy: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with closing(sqlite3.connect(path)) as made:
        made.execute("CREATE TABLE kept (path TEXT, copy TEXT)")
        made.execute("INSERT INTO kept VALUES (?, ?)", (document, copy))
        made.commit()


@pytest.mark.parametrize(
    ("name", "host"),
    [
        ("Mooring plan-MQB-PC03.docx", "MQB-PC03"), ("Mooring plan-FRONT-DESK.docx", "FRONT-DESK"), ("PLAN-MQB-PC03.DOCX", "MQB-PC03"),
        ("船-FRONT-DESK.docx", "FRONT-DESK"), ("DISPLAY-FILE-LABEL.html", None), ("Mooring plan-desk.docx", None),
    ],
)  # fmt: skip
def test_conflict_copies_carry_the_name_of_a_machine(name: str, host: str | None) -> None:
    places = catalogue()
    assert (places.match(places.places["conflict-host"], name) or {}).get("host") == host


def package(**parts: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in parts.items():
            archive.writestr(name, data)
    return out.getvalue()


OF_ITS_OWN = package(mimetype=b"text/x-algebra", content=b"<cell>keel: 12</cell>" * 20)


@pytest.mark.parametrize(
    ("path", "data", "is_found"),
    [
        ("tmp/untitled_22065_22191.wxmx", OF_ITS_OWN, True),
        ("tmp/suite-Ab12Cd/Sans_titre-4711.plan", OF_ITS_OWN, True),
        ("private/var/folders/zz/zyxv0000gn/T/algebra/untitled-4711.plan", OF_ITS_OWN, True),
        ("tmp/a/b/c/d/untitled-4711.plan", OF_ITS_OWN, False),
        ("tmp/Unbenannt 3.odg", odt("mooring plan, two rows of piles"), True),
        ("tmp/Dokument 12.mind", b'<?xml version="1.0"?><map><node text="moorings"/></map>', True),
        ("tmp/untitled_22065_22191.wxmx", OF_ITS_OWN[:-40], False),
        ("tmp/untitled_22065.zip", OF_ITS_OWN, False),
        ("tmp/document-view.plan", OF_ITS_OWN, False),
        ("tmp/untitled-1.json", b'{"a": 1}', False),
        ("tmp/unnamed.png", PICTURE, False),
        ("tmp/unnamed-4711.png", PICTURE, True),
        ("home/ines/.cache/icons/untitled_1.plan", OF_ITS_OWN, False),
        ("home/ines/Projects/untitled_1.plan", OF_ITS_OWN, False),
    ],
)
def test_working_files_of_what_was_never_saved(
    path: str, data: bytes, is_found: bool, tmp_path: Path, rustfern: Rustfern
) -> None:
    write(tmp_path / "home/ines/Documents/plan.txt", TEXT, T0)
    write(tmp_path / path, data, T0 + 60)
    found = rustfern("scan", tmp_path, "--json").json["documents"]
    lost = [(d["situation"], best_of(d)["path"]) for d in found]
    assert lost == [("never-saved", str(tmp_path / path))] * is_found


@pytest.mark.parametrize(
    ("copy", "more"),
    [
        ("home/ines/Documents/yard log.txt.PROGSAVE", {}),
        ("home/ines/Documents/.recover/yard log.txt", {}),
        ("home/ines/Documents/backups/yard log.txt.20260921", {}),
        ("home/ines/.config/unheard/autosave/yard log.txt", {}),
        ("home/ines/.unheard/%home%ines%Documents%yard log.txt", {}),
        (f"home/ines/.local/share/unheard/{hashlib.sha1(b'/home/ines/Documents/yard log.txt').hexdigest()}", {}),
        ("home/ines/.local/state/unheard/k7", {"list.json": '{"k7": "/home/ines/Documents/yard log.txt"}'}),
        ("home/ines/.local/state/unheard/k8", {"kept.db": _database}),
        ("tmp/unheard-77/k9", {"index": "k9\tfile:///home/ines/Documents/yard%20log.txt\n"}),
        ("home/ines/Documents/.goutputstream-4XD7Y3", {}),
    ],
)  # fmt: skip
def test_an_unlisted_program(copy: str, more: dict[str, Any], tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "home/ines/Documents/yard log.txt", TEXT, T0)
    write(disk / "home/ines/Documents/other.txt", "winches and cleats are ordered for the second berth", T0)
    write(disk / "home/ines/.config/unheard/settings.json", '{"font": "mono", "size": 11}', T0)
    path = write(disk / copy, MORE if "goutput" not in copy else odt(*MORE.splitlines()), T0 + 600)
    if "goutput" in copy:
        (disk / "home/ines/Documents/yard log.txt").unlink()
        write(disk / "home/ines/Documents/yard log.odt", odt(*TEXT.splitlines()), T0)
    for name, content in more.items():
        if callable(content):
            content(path.parent / name, "/home/ines/Documents/yard log.txt", path.name)
        else:
            write(path.parent / name, content, T0)
    answer = rustfern("scan", disk, "--json").json
    document = answer["documents"][0]
    best = best_of(document)
    assert (
        document["original"].startswith(str(disk / "home/ines/Documents/yard log"))
        and document["situation"] != "nothing-lost"
    )
    assert (best["path"], best["state"]) == (str(path), "intact") and len(answer["documents"]) == 1
    restored = rustfern("restore", document["id"], "--to", tmp_path / "out", "--json").json["restored"][0]
    assert Path(restored["to"]).read_bytes() == path.read_bytes()


def test_what_programs_keep_for_themselves_is_no_document(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "home/ines/Documents/index.html", "<p>mooring plan of the boatyard, spring</p>", T0)
    write(disk / "home/ines/Documents/notes.txt", TEXT, T0)
    write(disk / "home/ines/.config/prog/index.html", "<p>welcome to the program, version four</p>", T0)
    write(disk / "home/ines/.config/prog/notes.txt", "release notes of the program", T0 + 99)
    write(disk / "home/ines/.config/prog/settings.json-backup", "{}", T0)
    write(
        disk / "home/ines/.config/prog/recent.json",
        '["/home/ines/Documents/notes.txt", "/home/ines/Documents/index.html"]',
        T0,
    )
    write(disk / "home/ines/src/.git/index.html", "x", T0)
    write(disk / "home/ines/.config/prog/backup/other.json", "{}", T0)
    write(disk / "home/ines/.config/prog/.state/state.txt", "state of the program", T0)
    assert rustfern("scan", disk, "--json").json["documents"] == []


def test_two_programs_leftovers_of_one_name_and_many_of_one(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    papers = disk / "home/ines/Documents"
    write(papers / "yard log.txt", TEXT, T0)
    write(papers / "yard log.txt.save", MORE, T0 + 500)
    write(disk / "home/ines/.other/auto/yard log.txt", MORE + "and the keel bolts are drawn\n", T0 + 900)
    for number in range(1_000):
        write(papers / f"tide.txt.{number}", f"high water {number}", T0)
    write(papers / "tide.txt", "high water 7", T0)
    lists = ",".join(f'"/home/ines/Documents/{number}.txt","k{number}"' for number in range(100_000))
    write(disk / "home/ines/.other/auto/list.json", f"[{lists}]", T0)
    write(
        disk / "home/ines/.other/auto/climbs.json",
        '{"../../../../../etc/passwd": "k1", "/etc/../passwd.txt": "yard log.txt"}',
        T0,
    )
    write(disk / "home/ines/.large/k1", MORE, T0)
    write(disk / "home/ines/.large/list.json", '{"/home/ines/Documents/tide.txt": "k1"}' + " " * (2 << 20), T0)
    answer = rustfern("scan", disk, "--json").json
    log = by_name(answer, "yard log.txt")
    assert best_of(log)["path"].endswith(".other/auto/yard log.txt") and len(log["copies"]) == 3
    assert "passwd" not in json.dumps(answer["documents"])
    assert len(by_name(answer, "tide.txt")["copies"]) == 302 and len(answer["problems"]) == 2
    told = " ".join(problem["message"] for problem in answer["problems"])
    assert any(copy["path"].endswith("tide.txt.999") for copy in by_name(answer, "tide.txt")["copies"])
    assert "700 further files" in told and "only its first 1 MB" in told


@pytest.mark.parametrize("trash", [".Trash-1000", ".Trash/1000"])
def test_the_trash_of_a_folder_that_stands_for_a_volume(trash: str, tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    write(disk / "home/ines/.config/x", "")
    stick = disk / "media/stick"
    write(stick / trash / "files/plan.txt", "mooring plan", T0)
    write(
        stick / trash / "info/plan.txt.trashinfo",
        "[Trash Info]\nPath=Plans/plan.txt\nDeletionDate=2026-11-20T10:00:00\n",
    )
    document = by_name(rustfern("scan", disk, "--json").json, "plan.txt")
    assert (document["situation"], document["original"]) == ("deleted", str(stick / "Plans/plan.txt"))


def test_nothing_found_says_what_was_looked_at(tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "disk/home/ines/Documents/a.txt", TEXT)
    write(tmp_path / "disk/home/ines/.config/x", "")
    plain = rustfern("scan", tmp_path / "disk").out
    assert (
        "No lost document was found.\nLooked at 2 names" in plain
        and "--happened wont-open" in plain
        and "--thorough" in plain
    )
    told = rustfern("scan", tmp_path / "disk", "--happened", "deleted", "--document", "letter", "--thorough").out
    assert "Nothing was found of it." in told and "No lost document" not in told and "(--thorough)" not in told


def test_what_lies_where_only_its_content_tells(tmp_path: Path, rustfern: Rustfern) -> None:
    """A disk check's finds, drafts under made-up names, an addition that no program is known for, a blank autosave."""
    home = tmp_path / "home" / "ines"
    survey = "Kittiwake: chainplates weep, the keel bolts are drawn and sound, two frames are cracked at the turn of the bilge\n"
    write(home / "Documents" / "survey.txt", survey, T0)
    write(home / "Documents" / "log book.txt", TEXT, T0)
    write(home / "Documents" / "log book.txt.autosave", " \n\t\n", T0 + 9_000)
    write(home / "Documents" / "dues.txt", MORE, T0)
    write(
        home / "Documents" / "dues.txt.earlier",
        "Ines paid for the winter berth and the crane in November\n",
        T0 - 9_000,
    )
    write(
        tmp_path / "found.000" / "FILE0000.CHK",
        survey + "her rudder stock was bent on the bar in October\n",
        T0 + 9_000,
    )
    write(tmp_path / "lost+found" / "#4711", "Tobias counted eleven planks of oak on the slip\n", T0)
    order = "Timber order: twelve planks of larch at twenty feet, four of oak for the stem, rivets by the pound\n"
    write(home / "Documents" / "order.txt", order, T0)
    nameless = write(tmp_path / "tmp" / "kq83hd", order + "and a keg of copper nails from Penryn\n", T0 + 9_000)
    write(
        home / ".cache" / "pad" / "blob1",
        "nothing of what is written here stands in any document of the yard\n",
        T0 + 9_000,
    )
    draft = write(
        home / ".local" / "share" / "pad" / "drafts" / "11018679-a7c9-4561-9aa6-8b03c7ddf877",
        "Crane at nine, said Petra Lund\n",
        T0,
    )
    write(
        home / ".local" / "share" / "pad" / "drafts" / "0f018679-a7c9-4561-9aa6-8b03c7ddf877",
        '{"width": 700, "height": 400}',
        T0,
    )
    write(home / ".local" / "share" / "pad" / "drafts" / "0000000000000001", "[view]\ntheme=dark\nfont = 9\n", T0)
    # Settings are no list of copies: patterns of paths, copies that are settings themselves.
    user = home / ".config" / "suite" / "user"
    write(user / "modifications.xcu", "<v>/$(loggername).log</v><v>blob7</v><v>/rota.txt</v><v>blob7</v>", T0)
    write(user / "backup" / "blob7", "x" * 99, T0)
    found = rustfern("scan", tmp_path, "--json").json
    documents = {d["name"]: d for d in found["documents"]}
    assert not {"$(loggername).log", "rota.txt"} & documents.keys()
    assert documents["survey.txt"]["situation"] == "crashed" and best_of(documents["survey.txt"])["kind"] == "saved"
    assert [c["state"] for c in documents["survey.txt"]["copies"] if c["place"] == "disk-check"] == ["damaged"]
    assert best_of(documents["#4711"])["state"] == "intact"
    assert [c["state"] for c in documents["log book.txt"]["copies"]] == ["intact", "empty"]
    assert documents["log book.txt"]["situation"] == "nothing-lost" and "dues.txt" not in documents
    assert best_of(documents["order.txt"])["path"] == str(nameless)
    lost = [d for d in found["documents"] if d["situation"] == "never-saved"]
    assert {best_of(d)["path"] for d in lost} == {str(draft), str(tmp_path / "lost+found" / "#4711")}
    asked = rustfern("scan", tmp_path, "--document", "dues.txt", "--happened", "overwritten", "--json").json
    assert best_of(asked["documents"][0])["path"].endswith("dues.txt.earlier")


def test_conflict_copies_and_deleted_folders(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "home" / "ines"
    for name, added in [
        ("berths", "(petra@marlow.example)"),
        ("rigging", "-conflict"),
        ("tides", "(ines)"),
        ("oak", "(Petra's conflicted copy 2026-11-20)"),
    ]:
        write(home / "Sync" / f"{name}.txt", TEXT, T0)
        write(
            home / "Sync" / f"{name}{added if added[0] == '-' else ' ' + added}.txt",
            TEXT + name + " and two more planks for Thursday\n",
            T0 + 9_000,
        )
    write(home / "Sync" / "merge-conflict.txt", "how two people change one text\n", T0)
    trash = home / ".local" / "share" / "Trash"
    write(trash / "files" / "Season" / "notes.txt", TEXT, T0)
    write(trash / "files" / "Season" / ".notes.txt.swp", b"b0VIM 9.0" + bytes(200), T0)
    write(trash / "files" / "Season" / ".~lock.notes.txt#", bytes(20), T0)
    write(
        trash / "info" / "Season.trashinfo", f"[Trash Info]\nPath={home}/Season\nDeletionDate=2026-11-20T10:00:00\n", T0
    )
    found = rustfern("scan", tmp_path, "--json").json
    two_ways = sorted(d["name"] for d in found["documents"] if d["situation"] == "diverged")
    assert two_ways == ["berths.txt", "oak.txt", "rigging.txt", "tides.txt"]
    assert all(best_of(d)["kind"] == "conflict" for d in found["documents"] if d["situation"] == "diverged")
    season = next(d for d in found["documents"] if d["name"] == "Season")
    assert best_of(season)["state"] == "intact" and not any("merge" in d["name"] for d in found["documents"])
