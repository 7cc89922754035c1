"""`ready` and `keep`: what a technician runs before anything else; and what only a running machine or a thorough search shows."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Run, best_of, by_name, docx, odt, write

from rustfern.operations import keep, keeper
from rustfern.output.temporary import is_ours

Rustfern = Callable[..., Run]
Home = Callable[[str], Path]
T0 = 1_760_000_000
MORE = "the garboard seam was raked out and payed with marine glue from the stem to frame seven"


def facts(answer: Any, top: Path) -> dict[str, Any]:
    """What must be the same in the original and in what was kept: by place below the root."""

    def below(path: str | None) -> str | None:
        return os.path.relpath(path, top) if path else None

    return {
        str(below(d["original"]) or sorted(c["sha256"] or "" for c in d["copies"])): (
            d["name"], d["situation"], d["original_exists"], below((best_of(d) or {}).get("path")),
            sorted((str(below(c["path"])), c["state"], c["modified"], c["kind"]) for c in d["copies"]),
            sorted(str(below(lock["path"])) for lock in d["locks"]),
        )
        for d in answer["documents"]
    }  # fmt: skip


def stamps(root: Path) -> list[tuple[str, int, int]]:
    """Times of all files; a folder's time of access changes by listing it."""
    return sorted((str(p), p.lstat().st_mtime_ns, p.lstat().st_atime_ns) for p in root.rglob("*") if not p.is_dir())


@pytest.mark.parametrize(
    "case", ["office-same-name-two-folders", "emacs-autosave", "trash-home", "mac-trash-putback", "nvim12-small"]
)
def test_what_is_kept_gives_the_same_answer(case: str, home: Home, tmp_path: Path, rustfern: Rustfern) -> None:
    root, kept = home(case), tmp_path / "kept"
    before = stamps(root)
    first = rustfern("keep", root, "--to", kept, "--json")
    assert first.status == 0 and first.json["taken"] and not first.json["problems"], first.err
    assert "same disk" in first.err  # both are in the temporary folder
    assert stamps(root) == before
    again = rustfern("keep", root, "--to", kept, "--json").json
    assert again["taken"] == 0 and again["before"] == first.json["taken"]
    assert facts(rustfern("scan", kept, "--json").json, kept / "files") == facts(
        rustfern("scan", root, "--json").json, root
    )


def test_keeping_goes_on_where_it_stopped_and_heals_what_was_damaged(tmp_path: Path, rustfern: Rustfern) -> None:
    root, kept = tmp_path / "d" / "home" / "ines", tmp_path / "kept"
    write(root / ".config" / "libreoffice" / "4" / "user" / "backup" / "plan.odt_0.odt", odt(MORE), T0)
    autosave = "home/ines/.config/libreoffice/4/user/backup/plan.odt_0.odt"
    write(root / "Documents" / "plan.odt", odt("short"), T0 - 60)
    write(root / "Documents" / ".~lock.plan.odt#", ",ines,desk,12.03.2026 16:40,;", T0)
    assert rustfern("keep", tmp_path / "d", "--to", kept).status == 0
    (kept / "files" / autosave).write_bytes(b"spoilt")
    with open(kept / "rustfern-kept.jsonl", "a", encoding="utf-8") as out:  # noqa: PTH123
        out.write('{"path": "cut')
    again = rustfern("keep", tmp_path / "d", "--to", kept, "--json").json
    assert again["taken"] == 1 and (kept / "files" / autosave).read_bytes() == odt(MORE)
    assert by_name(rustfern("scan", kept, "--json").json, "plan.odt")["situation"] == "crashed"
    other = rustfern("keep", root, "--to", kept)
    assert other.status == 2 and "another search" in other.err
    inside = rustfern("keep", tmp_path / "d", "--to", root / "kept")
    assert inside.status == 2 and "inside what was searched" in inside.err
    write(tmp_path / "full" / "mine.txt", "x")
    assert rustfern("keep", tmp_path / "d", "--to", tmp_path / "full").status == 2
    short = rustfern("keep", tmp_path / "d", "--to", tmp_path / "k2", "--short-lived")
    assert short.status == 0 and "scan " in short.out and (tmp_path / "k2" / "files" / autosave).exists()


def autosaves(root: Path, folders: int, each: int) -> dict[str, bytes]:
    """Documents in many folders, each with an older version beside it: path below the root → bytes."""
    made = {}
    for folder in range(folders):
        for number in range(each):
            for ending in ("", "~"):
                path = f"home/ines/Documents/{folder}/order {number}.txt{ending}"
                text = f"{'slipway ' * (number % 7)}larch for frame {folder}, {number}{ending}"
                # Some are as long as what is verified together, and one longer.
                text *= 40_000 if folder % 50 == 3 and number == 0 else 1
                write(root / path, text, T0 + folder)
                made[path] = text.encode()
    return made


def test_many_small_files_are_kept_each_with_its_bytes_and_time(tmp_path: Path, rustfern: Rustfern) -> None:
    (tmp_path / "d/home/ines/.config").mkdir(parents=True)
    made, kept = autosaves(tmp_path / "d", 80, 3), tmp_path / "kept"
    told = rustfern("keep", tmp_path / "d", "--to", kept, "--json").json
    assert told["taken"] == len(made) and not told["problems"] and not told["left"]
    for path, data in made.items():
        there = kept / "files" / path
        assert there.read_bytes() == data and there.stat().st_mtime == (tmp_path / "d" / path).stat().st_mtime
    lines = [json.loads(line) for line in (kept / "rustfern-kept.jsonl").read_text(encoding="utf-8").splitlines()[1:]]
    sums = {path: hashlib.sha256(data).hexdigest() for path, data in made.items()}
    assert {line["path"]: line["sha256"] for line in lines} == sums and len(lines) == len(made)
    assert not [path for path in kept.rglob("*") if is_ours(path.name)]


@pytest.mark.parametrize("after", [1, 63, 64, 65, 200])
def test_what_was_read_before_an_interrupt_is_kept(after: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "d/home/ines/.config").mkdir(parents=True)
    autosaves(tmp_path / "d", 10, 15)
    read, count = keeper.Keeper._read, 0

    def interrupted(*given: Any) -> Any:
        nonlocal count
        count += 1
        if count > after:
            raise KeyboardInterrupt
        return read(*given)

    monkeypatch.setattr(keeper.Keeper, "_read", interrupted)
    kept = tmp_path / "kept"
    with pytest.raises(KeyboardInterrupt):
        keep.keep([str(tmp_path / "d")], str(kept))
    lines = (kept / "rustfern-kept.jsonl").read_text(encoding="utf-8").splitlines()[1:]
    there = {str(path.relative_to(kept / "files")) for path in (kept / "files").rglob("*") if path.is_file()}
    assert {json.loads(line)["path"] for line in lines} == there and len(there) == after
    monkeypatch.undo()
    assert keep.keep([str(tmp_path / "d")], str(kept)).taken == 300 - after


@pytest.mark.parametrize(
    "line",
    [
        '{"schema": "other"}',
        "[]",
        "",
        '{"schema": "rustfern/kept-1", "roots": ["../../.."], "homes": [], "base": "/", "at": ""}',
    ],
)
def test_a_manifest_that_lies_is_not_believed(line: str, tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "kept" / "rustfern-kept.jsonl", line + "\n")
    run = rustfern("scan", tmp_path / "kept")
    assert run.status == 1 and "this list of kept files was not believed" in " ".join(run.out.split())


def test_ready_says_what_to_do_first(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    ines = disk / "Users" / "ivarga"
    write(
        ines / "AppData" / "Roaming" / "Microsoft" / "Word" / "AutoRecovery save of plan.asd",
        docx(MORE),
        int(time.time()) + 90_000,
    )
    write(ines / "x.reg", "REGEDIT4\n\n[HKEY_CURRENT_USER\\Software\\Microsoft\\Office\\16.0\\Word\\Options]\n"
          '"AUTOSAVE-PATH"="E:\\\\Rescue"\n"AutosaveInterval"=dword:0000001e\n')  # fmt: skip
    write(disk / "Users" / "TEMP" / "AppData" / "x", "")
    write(disk / "hiberfil.sys", b"HIBR" + bytes(100))
    run = rustfern("ready", disk, "--to", tmp_path / "kept", "--json")
    found = run.json
    assert run.status == 3 and not found["live"] and found["free"] > 0 and found["same_disk_as"] == str(disk)
    assert {home["person"] for home in found["homes"]} == {"ivarga", "TEMP"}
    assert any("hibernated" in text for text in found["blocked"]) and any(
        "temporary profile" in text for text in found["blocked"]
    )
    assert "ahead" in found["clock"] and found["copies"] == 1
    assert [place["path"] for place in found["outside"]] == ["E:\\Rescue"]
    assert found["settings"][0]["risk"] and "every 30 minutes" in found["settings"][0]["says"]
    screen = rustfern("ready", disk)
    assert (
        screen.out.index("hibernated")
        < screen.out.index("First")
        < screen.out.index("Do not")
        < screen.out.index("Next")
    )
    assert not (disk / "kept").exists()


def test_ready_on_a_running_machine(tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "me" / "Documents" / "a.txt", "x")
    run = rustfern("ready", "--json", HOME=str(tmp_path / "me"))
    assert run.json["live"] and run.json["host"] and "restart" in " ".join(run.json["never"])
    assert "rustfern scan" in rustfern("ready", HOME=str(tmp_path / "me")).out
    nobody = rustfern("ready", tmp_path / "me" / "Documents")
    assert nobody.status == 1 and "nobody's home" in nobody.out


@pytest.mark.skipif(not Path("/dev/shm").is_dir(), reason="only Linux shows what a process holds open")
def test_a_deleted_file_that_is_still_open_is_a_copy(tmp_path: Path, rustfern: Rustfern) -> None:
    document = write(tmp_path / "me" / "Documents" / "plan.docx", docx(MORE))
    holder = subprocess.Popen(
        [sys.executable, "-c", f"f=open({str(document)!r},'rb');print('open',flush=True);input()"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE,
    )  # fmt: skip
    outside = Path(tempfile.mkdtemp(dir="/dev/shm"))  # the temporary folder itself is searched
    try:
        assert holder.stdout and holder.stdout.readline().strip() == b"open"
        document.unlink()
        case = ("--case", outside / "case")
        answer = rustfern("scan", "--json", *case, HOME=str(tmp_path / "me")).json
        # What else lies in the temporary folder of this machine is searched too.
        held = [d for d in answer["documents"] if any(copy["place"] == "held-open" for copy in d["copies"])]
        lost = by_name({"documents": held}, "plan.docx")
        assert lost["situation"] == "deleted" and best_of(lost)["place"] == "held-open"
        run = rustfern("restore", lost["best"], "--to", outside / "out", *case, "--json")
        assert Path(run.json["restored"][0]["to"]).read_bytes() == docx(MORE), run.err
    finally:
        holder.communicate(b"\n")
        shutil.rmtree(outside)


def test_a_thorough_search_goes_by_content(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk" / "home" / "ines"
    write(disk / ".config" / "x", "")
    write(disk / "found" / "f1048576", docx(MORE), T0)
    write(disk / "found" / "f2", b"\0" * 4000)
    write(disk / "found" / "f3", "only notes, and no document", T0)
    write(disk / "Documents" / "berths.odt", odt("berth five is free until the launch in May"), T0)
    write(disk / "old.dat", odt("berth five is free until the launch in May"), T0 - 90)
    plain = rustfern("scan", tmp_path / "disk", "--json").json
    assert not plain["documents"]
    thorough = rustfern("scan", tmp_path / "disk", "--thorough", "--json").json
    lost = by_name(thorough, "f1048576")
    assert lost["situation"] == "misplaced" and best_of(lost)["format"] == "docx"
    assert [c["place"] for c in by_name(thorough, "berths.odt")["copies"]].count("by-content") == 1
    assert len(thorough["documents"]) == 2
    run = rustfern("restore", lost["best"], "--to", tmp_path / "out", "--json")
    assert run.json["restored"][0]["to"].endswith(".docx")


def test_what_is_being_written_is_said(tmp_path: Path, rustfern: Rustfern) -> None:
    root = tmp_path / "d" / "home" / "ines"
    # Large enough that the writer gets its turn while it is read, also on a busy machine.
    log = write(root / "Documents" / "log.txt~", f"{MORE}\n" * 200_000)
    write(root / "Documents" / "log.txt", MORE)
    (root / ".config").mkdir()
    code = (
        f"import os,time\nend=time.time()+60\nwhile time.time()<end: os.utime({str(log)!r}, ns=(time.time_ns(),) * 2)"
    )
    writer = subprocess.Popen([sys.executable, "-c", code])
    try:
        before = log.stat().st_mtime_ns
        while log.stat().st_mtime_ns == before:
            time.sleep(0.01)
        for _ in range(8):
            # A busy machine may let the writer rest just while the copy is read.
            answer = rustfern("scan", tmp_path / "d", "--json").json
            if any("still being written" in problem["message"] for problem in answer["problems"]):
                break
        kept = rustfern("keep", tmp_path / "d", "--to", tmp_path / "kept", "--json").json
    finally:
        writer.kill()
        writer.wait()
    copies = [c for d in answer["documents"] for c in d["copies"] if c["path"] == str(log)]
    assert "still being written" in copies[0]["reason"]
    assert any("still being written" in p["message"] for p in answer["problems"])
    assert kept["taken"] and isinstance(json.dumps(kept), str)
