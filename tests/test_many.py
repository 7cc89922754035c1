"""Many roots at once: lists, pieces that fail or die, runs that go on, one page over all."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from pathlib import Path
from typing import Any

import psutil
import pytest
from conftest import Run, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.cases.answers_folder import AnswersFolder, Outcome
from rustfern.core.errors import WrongUsage
from rustfern.core.observer import Silent
from rustfern.engine.interface import EngineLost
from rustfern.engine.local import Crew, LocalEngine, in_order
from rustfern.operations.many import Many, Piece, Row, read_list
from rustfern.sources.fingerprint import fingerprint

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
HINTS = frozenset({"person", "document"})


def home(folder: Path, *, lost: bool = True, ending: str = "") -> Path:
    """A home with a document that was saved over, or (with `ending`) one that was turned into noise under another name."""
    (folder / ".config").mkdir(parents=True)
    write(folder / "Documents/price list.txt", "price list\n" + "oak larch elm\n" * 40, T0)
    if lost:
        write(folder / "Documents/mooring plan.txt", "plan\n", T0 + 60)
        write(folder / "Documents/mooring plan.txt~", "Mooring plan\nKittiwake on the north pontoon, berth 4\n", T0)
    return folder


@pytest.fixture
def homes(tmp_path: Path) -> Path:
    """Three homes of which one lost nothing."""
    for name in ("pc1", "pc2", "pc3"):
        home(tmp_path / "homes" / name / "ines", lost=name != "pc3")
    return tmp_path / "homes"


def rows_of(told: Run) -> dict[str, Any]:
    return {each["label"]: each for each in told.json["roots"]}


# --- lists --------------------------------------------------------------------------------------------------------------


def taken(words: Sequence[str]) -> None:
    if "Nobody" in words:
        raise WrongUsage("there is no Nobody")


def test_lists_of_every_kind(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("RUSTFERN_PASSWORD_YARD", "oakum")
    text = "Root,Label,credential,person\n/srv/a,A/b,,ines\nsftp://pc/home,a-b,yard,\n\n/srv/c,,,\n"
    rows = read_list(str(write(tmp_path / "l.csv", text)), HINTS, taken)
    assert [(row.line, row.root, row.label, row.options, row.credential) for row in rows] == [
        (2, "/srv/a", "A-b", ("--person", "ines"), ""), (3, "/sftp:pc/home", "a-b 2", (), "yard"), (5, "/srv/c", "c", (), ""),
    ]  # fmt: skip
    told = '[[root]]\npath = "/srv/a"\nperson = "ines"\n[[root]]\nroot = "~/x"\nlabel = "mine"\n'
    rows = read_list(str(write(tmp_path / "l.toml", told)), HINTS, taken)
    assert [(row.root, row.label, row.options) for row in rows] == [
        ("/srv/a", "a", ("--person", "ines")), (os.path.expanduser("~/x"), "mine", ()),
    ]  # fmt: skip
    for name in ("b", "a", ".hidden"):
        (tmp_path / "many" / name).mkdir(parents=True)
    assert [row.label for row in read_list(str(tmp_path / "many"), HINTS, taken)] == ["a", "b"]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("name\n/srv\n", "no column root"), ("root\n", "names no root"), ("root\n/srv/a\n/srv/a/\n", "line 3: the same root as in line 2"),
        ("root,colour\n/srv,red\n", "line 2: nothing is known of colour"), ("root,label\n,x\n", "line 2: it names no root"), ("root\n/a,b\n", "2 cells, 1 columns"),
        ("root,credential\n/srv,yard\n", "set RUSTFERN_PASSWORD_YARD"), ("root,person\n/srv,Nobody\n", "line 2: there is no Nobody"), ('root\n"/srv\n', "no CSV"),
        ("root\n" + "".join(f",{n}\n" for n in range(30)), "and 10 more"),
    ],
)  # fmt: skip
def test_wrong_lines_are_named(text: str, why: str, tmp_path: Path) -> None:
    with pytest.raises(WrongUsage, match=r"this list|lines of") as error:
        read_list(str(write(tmp_path / "l.csv", text)), HINTS, taken)
    assert why in str(error.value)


@given(st.text(max_size=200), st.booleans())
def test_any_list_is_read_or_refused(text: str, is_toml: bool) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / ("l.toml" if is_toml else "l.csv")
        path.write_text("root\n" * (not is_toml) + text, encoding="utf-8", errors="replace")
        try:
            labels = [row.label.casefold() for row in read_list(str(path), HINTS, lambda words: None)]
        except WrongUsage:
            return
        assert len(labels) == len(set(labels)) and all(label and "/" not in label for label in labels)


# --- commands -----------------------------------------------------------------------------------------------------------


def test_each_root_ends_as_its_own_case_and_answer(homes: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    out = tmp_path / "out"
    run = rustfern("scan", "--list", homes, "--out", out)
    assert (
        run.status == 0 and "3 roots: 2 something lost, 1 nothing lost" in run.out and f"report --over {out}" in run.out
    )
    for label in ("pc1", "pc2", "pc3"):
        answer = json.loads((out / f"answers/{label}.json").read_text())
        alone = rustfern("scan", homes / label, "--json").json
        assert [each["name"] for each in answer["documents"]] == [each["name"] for each in alone["documents"]]
        assert answer["case"] == str(out / f"cases/{label}.fern") and (out / f"cases/{label}.fern").is_file()
    restored = rustfern("restore", "--all-best", "--list", homes, "--out", out)
    assert restored.status == 0 and list((out / "restore/pc1").glob("mooring plan*")), restored.out + restored.err
    for command, words in (("keep", ()), ("check", ()), ("protect", ()), ("repair", ())):
        told = rows_of(rustfern(command, *words, "--list", homes, "--out", out, "--json"))
        assert set(told) == {"pc1", "pc2", "pc3"} and all(
            each["status"] in (0, 1) or command == "repair" for each in told.values()
        ), told


def test_the_status_is_that_of_all_roots_together(tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "yard/pc1/Documents/launch.json", '{"launch": "Tuesday"}\n')
    write(tmp_path / "yard/pc2/Documents/launch.json", '{"launch": "Tues')
    run = rustfern("check", "--list", tmp_path / "yard", "--out", tmp_path / "out")
    assert run.status == 1 and "2 roots: 1 nothing damaged, 1 something damaged" in run.out
    (tmp_path / "yard/pc2/Documents/launch.json").write_text("{}\n")
    run = rustfern("check", "--list", tmp_path / "yard", "--out", tmp_path / "out")
    assert run.status == 0 and "2 roots: 2 nothing damaged" in run.out


def test_a_terminal_stays_in_its_own_case(homes: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", homes / "pc3")
    before = rustfern("cases").out
    rustfern("scan", "--list", homes, "--out", tmp_path / "out")
    assert rustfern("cases").out == before and "pc3" in rustfern("look").err


def test_what_is_done_is_not_done_again(homes: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    """Known by content: also under another name. What changed is searched again."""
    out = tmp_path / "out"
    first = rows_of(rustfern("scan", "--list", homes, "--out", out, "--json"))
    (homes / "pc2").rename(homes / "pc2 of Petra")
    write(homes / "pc3/ines/Documents/launch.txt~", "launch schedule, Tuesday\n", T0)
    second = rows_of(rustfern("scan", "--list", homes, "--out", out, "--json"))
    assert (
        second["pc1"]["seconds"] == first["pc1"]["seconds"]
        and second["pc2 of Petra"]["seconds"] == first["pc2"]["seconds"]
    )
    assert (out / "answers/pc2 of Petra.json").exists() and not (out / "answers/pc2.json").exists()
    noted = [json.loads(line)["label"] for line in (out / "done.jsonl").read_text().splitlines()]
    assert sorted(noted) == ["pc1", "pc2", "pc2 of Petra", "pc3", "pc3"], "a new name is noted, for the page over all"
    with (out / "done.jsonl").open("a") as file:
        file.write('{"label": "pc1", "ro')
    third = rows_of(rustfern("scan", "--thorough", "--list", homes, "--out", out, "--json"))
    assert len(third) == 3 and len((out / "done.jsonl").read_text().splitlines()) >= 7, "other options are other work"


def test_one_that_fails_stops_no_other(
    homes: Path, tmp_path: Path, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch
) -> None:
    listed = f"root,label\n{homes}/pc1,one\n{tmp_path}/nothing,two\ndav://ines@127.0.0.1:9/x,three\n{homes}/pc2,four\n"
    run = rustfern("scan", "--list", write(tmp_path / "l.csv", listed), "--out", tmp_path / "out", "--json")
    told = rows_of(run)
    assert run.status == 3 and [told[label]["status"] for label in ("one", "four")] == [0, 0]
    assert "there is nothing at this path" in told["two"]["reason"] and "cannot be reached" in told["three"]["reason"]
    assert told["two"]["answer"] is None and not (tmp_path / "out/answers/two.json").exists()
    assert "two: there is nothing" in run.err and run.err.count("\n") == 2
    write(tmp_path / "nothing/ines/.config/x", "")
    again = rows_of(rustfern("scan", "--list", tmp_path / "l.csv", "--out", tmp_path / "out", "--json"))
    assert again["two"]["status"] == 1 and again["one"]["seconds"] == told["one"]["seconds"]


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("--list", "L"), "Add --out"), (("--out", "O"), "Give them with --list"), (("--list", "L", "--out", "O", "/srv"), "not both"),
        (("--list", "L", "--out", "O", "--case", "x"), "a case of its own"), (("--list", "L", "--out", "O", "--colour"), "No such option"),
        (("--list", "L", "--out", "homes/pc1/answers"), "into what is searched"), (("--list", "none.csv", "--out", "O"), "cannot be read"),
        (("--list", "L", "--out", "O", "--at-most", "soon"), "soon"), (("--list",), "needs a value"),
        (("--list", "L", "--out", "O", "--scheduler", "tcp://127.0.0.1:9"), "no scheduler answers"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said_at_the_start(
    words: tuple[str, ...], why: str, homes: Path, tmp_path: Path, rustfern: Rustfern
) -> None:
    if "--scheduler" in words:
        pytest.importorskip("distributed")
    write(tmp_path / "l.csv", f"root\n{homes}/pc1\n")
    names = {
        "L": tmp_path / "l.csv",
        "O": tmp_path / "out",
        "homes/pc1/answers": homes / "pc1/answers",
        "none.csv": tmp_path / "none.csv",
    }
    run = rustfern("scan", *(names.get(word, word) for word in words))
    assert run.status == 2 and why in run.err, run.err
    assert not (tmp_path / "out/answers").exists() or not list((tmp_path / "out/answers").iterdir())


def test_a_password_is_there_for_its_own_root_alone(tmp_path: Path, rustfern: Rustfern) -> None:
    from rustfern.demo.service import PASSWORD, Service

    server = Service(0)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    listed = f"root,label,credential\n{server.address},with,yard\n{server.address}Documents,without,\n"
    told = rows_of(
        rustfern(
            "scan",
            "--list",
            write(tmp_path / "l.csv", listed),
            "--out",
            tmp_path / "out",
            "--json",
            RUSTFERN_PASSWORD_YARD=PASSWORD,
        )
    )
    server.shutdown()
    server.server_close()
    assert told["with"]["status"] == 0 and "password" in told["without"]["reason"]
    for path in (tmp_path / "out").rglob("*"):
        assert not path.is_file() or PASSWORD.encode() not in path.read_bytes()


# --- workers ------------------------------------------------------------------------------------------------------------


def _double(number: int) -> int:
    return 2 * number


def _dies(number: int) -> int:
    if number == 3:
        os.kill(os.getpid(), signal.SIGKILL)
    return number


def _first_time_dies(piece: Piece) -> Outcome:
    mark = Path(piece.answer)
    if "dies" in piece.label and not mark.exists():
        mark.write_text("once")
        os.kill(os.getpid(), signal.SIGKILL)
    if "always" in piece.label:
        os.kill(os.getpid(), signal.SIGKILL)
    if "breaks" in piece.label:
        raise RuntimeError("a mistake")
    if "stalls" in piece.label:
        time.sleep(60)
    return Outcome(piece.label, piece.root, 0, mark=piece.mark)


def test_workers_that_die_lose_their_piece_only(tmp_path: Path) -> None:
    with LocalEngine(2) as engine:
        assert list(in_order(engine, _double, range(9))) == [2 * n for n in range(9)]
    crew = Crew(2)
    waits: list[Future[int]] = []
    for number in range(2, 4):
        waits.append(crew.submit(_dies, number))
    assert waits[0].result(20) == 2
    with pytest.raises(Exception, match="abruptly"):
        waits[1].result(20)
    assert crew.submit(_double, 4).result(20) == 8
    with pytest.raises(EngineLost):
        list(crew.map(_dies, [1, 3]))
    rows = [
        Row(n, str(tmp_path / f"r{n}"), label)
        for n, label in enumerate(("dies once", "always dies", "breaks", "well", "stalls"), 1)
    ]
    many = Many("scan", rows, str(tmp_path / "out"), lambda row, folder: (), [])
    came = {each.label: each for each in many.run(crew, _first_time_dies, Silent(), at_most=6.0)}
    crew.close()
    assert (came["dies once"].status, came["dies once"].tries, came["well"].status) == (0, 2, 0)
    assert came["always dies"].status is None and "lost 3 times" in came["always dies"].reason
    assert "RuntimeError: a mistake" in came["breaks"].reason and "given up after 6 s" in came["stalls"].reason
    assert not [each for each in psutil.Process().children(recursive=True) if "_first_time" in str(each)]


def test_a_worker_that_hangs_stops_no_other(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing comes of it, though nobody said how long it may take: it is tried once more, and listed."""
    monkeypatch.setattr("rustfern.operations.many._MOST_SILENT", 1.5)
    rows = [Row(n, str(tmp_path / f"r{n}"), label) for n, label in enumerate(("stalls", "well", "well too"), 1)]
    many, crew = Many("scan", rows, str(tmp_path / "out"), lambda row, folder: (), []), Crew(2)
    came = {each.label: each for each in many.run(crew, _first_time_dies, Silent())}
    crew.close()
    assert (came["well"].status, came["well too"].status, came["stalls"].status) == (0, 0, None)
    assert "nothing came of it for" in came["stalls"].reason and came["stalls"].tries == 2


def test_a_run_that_is_interrupted_goes_on(tmp_path: Path) -> None:
    for number in range(40):
        home(tmp_path / "homes" / f"pc{number:02}" / "ines")
    command = [
        sys.executable,
        "-m",
        "rustfern",
        "scan",
        "--list",
        str(tmp_path / "homes"),
        "--out",
        str(tmp_path / "out"),
    ]
    child = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    noted = tmp_path / "out/done.jsonl"
    for _ in range(400):
        time.sleep(0.05)
        if noted.exists() and len(noted.read_text().splitlines()) >= 3:
            break
    child.send_signal(signal.SIGINT)
    _, said = child.communicate(timeout=60)
    done = len(noted.read_text().splitlines())
    if child.returncode == 130:
        assert "goes on where it was" in said and done < 40
    assert subprocess.run(command, capture_output=True, check=False).returncode == 0
    labels = [json.loads(line)["label"] for line in noted.read_text().splitlines()]
    assert sorted(set(labels)) == [f"pc{number:02}" for number in range(40)] and len(labels) == 40
    assert not list((tmp_path / "out/answers").glob("*.part"))


def test_on_a_cluster(homes: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    """The same answers from a cluster of Dask; a raw search that it helps with finds the same."""
    pytest.importorskip("distributed")
    out = tmp_path / "out"
    told = rows_of(rustfern("scan", "--list", homes, "--out", out, "--json", "--scheduler", "local"))
    assert [told[label]["status"] for label in ("pc1", "pc2", "pc3")] == [0, 0, 1], told
    from conftest import packed

    image = write(
        tmp_path / "card.img",
        bytes(4 << 20) + packed("documents.tar.xz")[sorted(packed("documents.tar.xz"))[0]] + bytes(4 << 20),
    )
    alone, together = (
        rustfern("scan", image, "--raw", "--json", *words).json["documents"] for words in ((), ("--scheduler", "local"))
    )
    assert [[copy["sha256"] for copy in each["copies"]] for each in alone] == [
        [copy["sha256"] for copy in each["copies"]] for each in together
    ]


def test_what_a_root_holds_tells_it(tmp_path: Path) -> None:
    one = home(tmp_path / "one")
    told = fingerprint(str(one))
    one.rename(tmp_path / "two")
    assert fingerprint(str(tmp_path / "two")) == told and fingerprint(str(tmp_path / "none")) == ""
    write(tmp_path / "two/Documents/new.txt", "x")
    assert fingerprint(str(tmp_path / "two")) != told
    image = write(tmp_path / "a.img", b"x" * 300_000, T0)
    before = fingerprint(str(image))
    write(image, b"x" * 299_999 + b"y", T0)
    assert before and fingerprint(str(image)) != before


# --- over all -----------------------------------------------------------------------------------------------------------


def test_one_page_over_all(homes: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    for name in ("pc4", "pc5"):
        folder = home(homes / name / "petra", lost=False) / "Documents"
        for number in range(4):
            write(folder / f"survey {number}.odt.locked", os.urandom(3000), T0 + 3600)
            write(folder / f"survey {number}.odt", b"PK\x03\x04" + os.urandom(300), T0 + 3600)
    out = tmp_path / "out"
    rustfern("scan", "--list", homes, "--out", out, "--happened", "wont-open")
    told = rustfern("report", "--over", out, "--json").json
    assert (
        told["schema"] == "rustfern/over-1" and told["people"] == ["ines", "petra"] and told["lost"]["overwritten"] == 2
    )
    assert [each["label"] for each in told["machines"]][-1] == "pc3" and told["found"] >= 2
    assert any(cause["kind"] == "minute" and cause["machines"] == ["pc4", "pc5"] for cause in told["causes"]), told[
        "causes"
    ]
    assert "restore --all-best" in str(told["first"])
    page = tmp_path / "office.html"
    assert rustfern("report", "--over", out, "--to", page).status == 0
    text = page.read_text()
    assert (
        "Losses on 5 machines" in text
        and (out / "cases/pc1.fern").as_uri() in text
        and "data:image/png;base64," in text
    )
    assert "mooring plan" not in text and "Kittiwake" not in text and "survey" not in text, "no document's name or text"
    rows = list(csv.DictReader(rustfern("report", "--over", out, "--csv").out.splitlines()))
    assert {row["machine"]: row["lost"] for row in rows}["pc1"] == "1"
    assert rustfern("report", "--over", tmp_path).status == 2 and rustfern("report", "--over", out).status == 2
    assert AnswersFolder.existing(str(tmp_path)) is None


def test_a_wave_of_encrypted_files_is_one_cause(tmp_path: Path, rustfern: Rustfern) -> None:
    """Documents that are gone, with noise under their names and one more ending beside what is left of them."""
    for machine in ("pc1", "pc2"):
        documents = home(tmp_path / "homes" / machine / "ines", lost=False) / "Documents"
        for number in range(4):
            write(documents / f"survey {number}.odt.qzx", os.urandom(3000), T0)
            write(documents / f"survey {number}.odt~", b"noise", T0)
    rustfern("scan", "--list", tmp_path / "homes", "--out", tmp_path / "out")
    told = rustfern("report", "--over", tmp_path / "out", "--json").json
    cause = told["causes"][0]
    assert (cause["kind"], cause["documents"], cause["machines"]) == ("ending", 8, ["pc1", "pc2"])
    assert told["first"][0].startswith("Take these machines off the network") and ".qzx" in told["first"][0]
