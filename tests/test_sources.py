"""One contract for every source: a folder, archives of every kind, an archive in an archive, a folder in one. And archives that are hostile."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import lzma
import os
import struct
import tarfile
import zipfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest
from backports import zstd
from conftest import HOMES, Run, packed, unpack, write

from rustfern.core.errors import SourceError
from rustfern.core.model import Entry, Location
from rustfern.sources import archives, registry
from rustfern.sources.interface import Source

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
FILES = {
    "home/ines/a.txt": b"oak",
    "home/ines/deep/er/b.odt": b"keel" * 1000,
    "home/ines/\u00fcber.txt": b"larch",
    "home/ines/empty": b"",
    "top.txt": b"x" * 70_000,
}


def lay_out_folder(base: Path) -> Path:
    """The files of the contract below a folder."""
    for name, data in FILES.items():
        write(base / "folder" / name, data, T0)
        (base / "folder" / name).chmod(0o640)
    (base / "folder/home/ines/link").symlink_to("ines@pc:77")
    (base / "folder/home/ines/none").mkdir()
    return base / "folder"


def _tar(base: Path) -> Path:
    with tarfile.open(base / "a.tar", "w") as archive:
        archive.add(lay_out_folder(base), ".")
    return base / "a.tar"


def _packed(ending: str, pack: Callable[[bytes], bytes]) -> Callable[[Path], Path]:
    return lambda base: write(base / f"a.tar.{ending}", pack(_tar(base).read_bytes()))


def _zip(base: Path) -> Path:
    folder = lay_out_folder(base)
    with zipfile.ZipFile(base / "a.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for path in sorted(folder.rglob("*")):
            info = zipfile.ZipInfo(
                str(path.relative_to(folder)) + ("/" if path.is_dir() and not path.is_symlink() else ""),
                (2020, 1, 1, 0, 0, 0),
            )
            info.external_attr = path.lstat().st_mode << 16
            info.extra = struct.pack("<HHBi", 0x5455, 5, 1, T0)
            data = os.readlink(path).encode() if path.is_symlink() else path.read_bytes() if path.is_file() else b""
            archive.writestr(info, data, zipfile.ZIP_DEFLATED)
    return base / "a.zip"


def _nested(base: Path) -> Path:
    with zipfile.ZipFile(base / "outer.zip", "w") as archive:
        archive.write(_tar(base), "home.tar")
    return base / "outer.zip"


def _inside(base: Path) -> Path:
    with tarfile.open(base / "b.tar", "w") as archive:
        archive.add(lay_out_folder(base), "disk")
    return base / "b.tar" / "disk"


def _seven(kind: str) -> Callable[[Path], Path]:
    """Archives of the same files, made by 7-Zip 26.02."""
    return lambda base: write(base / "a.7z", packed("sevenzip.tar.xz")[f"{kind}.7z"])


def _disk(base: Path) -> Path:
    """A folder of an ext4 volume that mkfs.ext4 filled with the same files."""
    return write(base / "contract.img", packed("disks.tar.xz")["contract.img"]) / "p1" / "disk"


MAKERS = {
    "folder": lay_out_folder, "tar": _tar, "gz": _packed("gz", gzip.compress), "xz": _packed("xz", lzma.compress), "bz2": _packed("bz2", bz2.compress),
    "zst": _packed("zst", zstd.compress), "zip": _zip, "nested": _nested, "inside": _inside,
    "7z": _seven("solid"), "7z each alone": _seven("alone"), "7z by PPMd": _seven("ppmd"), "7z by Deflate64": _seven("deflate64"),
    "disk": _disk,
}  # fmt: skip


@pytest.fixture
def door() -> registry.Sources:
    return registry.Sources()


@pytest.fixture(params=MAKERS)
def source(request: pytest.FixtureRequest, tmp_path: Path, door: registry.Sources) -> Source:
    return door.open(str(MAKERS[request.param](tmp_path)))


def test_the_contract(source: Source, door: registry.Sources) -> None:
    root = source.root
    assert source.names(root) == (["home"], ["top.txt"])
    assert source.names(f"{root}/home/ines") == (["deep", "none"], ["a.txt", "empty", "link", "\u00fcber.txt"])
    walked = {
        os.path.relpath(folder, root): (sorted(folders), sorted(files))
        for folder, folders, files in source.walk(root, pytest.fail)
    }
    assert walked["home/ines/deep/er"] == ([], ["b.odt"]) and walked["home/ines/none"] == ([], []) and len(walked) == 6
    for name, data in FILES.items():
        path = f"{root}/{name}"
        entry = source.entry(path)
        assert (entry.root, entry.path, entry.size, entry.is_file, entry.is_folder, entry.link_target) == (
            root,
            path,
            len(data),
            True,
            False,
            None,
        )
        assert (
            entry.modified is not None
            and entry.modified.timestamp() == T0
            and entry.modified_ns == T0 * 10**9
            and entry.mode == 0o640
        )
        with source.open(entry) as stream, source.open(entry) as again:
            assert stream.read() == data and again.read(2) == data[:2]
            stream.seek(1)
            assert stream.read(3) == data[1:4] and stream.seek(0, io.SEEK_END) == len(data)
        with source.materialise(entry) as copy:
            assert copy.read_bytes() == data
        assert source.exists(path) and door.exists(path) and door.is_file(path) and not source.is_folder(path)
        assert door.of(entry).entry(path) == entry and door.around(path).exists(path)
    link = source.entry(f"{root}/home/ines/link")
    assert link.link_target == "ines@pc:77" and not link.is_file and not link.is_folder
    assert (
        source.is_folder(f"{root}/home")
        and door.is_folder(f"{root}/home/ines")
        and not source.exists(f"{root}/nothing")
    )
    with pytest.raises(SourceError):
        source.entry(f"{root}/nothing")
    with pytest.raises(SourceError):
        source.names(f"{root}/nothing")
    for bad in (f"{root}/home", f"{root}/home/ines/link", f"{root}/nothing"):
        with pytest.raises(SourceError):
            source.open(Entry(Location(root, bad), 1, None))
    told: list[str] = []
    assert source.list_folder(f"{root}/nothing", False, lambda path, message: told.append(message)) is None and told
    assert source.trouble == ""


def _answer(rustfern: Rustfern, root: Path) -> object:
    found = rustfern("scan", root, "--json").json
    for name in ("case", "totals"):
        found[name] = None
    return json.loads(json.dumps(found).replace(json.dumps(str(root))[1:-1], "ROOT"))


@pytest.mark.parametrize("case", ["office-writer-odt-crash", "vim-stack", "trash-home", "win-trash-v2"])
def test_a_home_is_the_same_packed_and_unpacked(case: str, tmp_path: Path, rustfern: Rustfern) -> None:
    if not (HOMES / f"{case}.tar.gz").exists():
        pytest.skip("not among the captured homes")
    assert _answer(rustfern, HOMES / f"{case}.tar.gz") == _answer(rustfern, unpack(case, tmp_path))


def test_every_command_takes_an_archive(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "disk/home/ines"
    write(home / "Documents/notes.txt", "garboard seam raked out", T0)
    write(home / "Documents/notes.txt~", "garboard seam raked out and payed with red lead, twice over", T0 - 60)
    write(home / ".config/x", "")
    packed = tmp_path / "disk.tar.xz"
    with tarfile.open(packed, "w:xz") as archive:
        archive.add(tmp_path / "disk", ".")
    before = packed.stat()
    assert rustfern("ready", packed).status == 0 and rustfern("places", packed).status in (0, 1)
    assert rustfern("scan", packed).status == 0
    assert "red lead" in rustfern("look", "1", "--text").out
    inner = packed / "home/ines/Documents/notes.txt"
    assert rustfern("look", inner).status == 0 and rustfern("check", inner).status == 0
    assert len(rustfern("check", "--recursive", packed, "--json").json["files"]) == 3
    assert len(rustfern("check", "--recursive", packed / "home", "--json").json["files"]) == 3
    for number, words in enumerate((["1"], ["notes", "--in", packed], ["notes", "--in", packed / "home/ines"])):
        to = tmp_path / f"to {number}"
        assert rustfern("restore", *words, "--to", to).status == 0 and "red lead" in next(to.glob("notes*")).read_text()
    assert rustfern("keep", packed, "--to", tmp_path / "kept").status == 0
    assert rustfern("scan", tmp_path / "kept").status == 0
    assert rustfern("report", "--to", tmp_path / "r.html").status == 0
    after = packed.stat()
    assert (before.st_mtime_ns, before.st_ctime_ns, before.st_atime_ns) == (
        after.st_mtime_ns,
        after.st_ctime_ns,
        after.st_atime_ns,
    )
    for path, said in (
        (packed / "nowhere", "nothing at this path"),
        (write(tmp_path / "x.docx", zip_of("a")), "this is a file"),
        ("", "given as nothing"),
    ):
        run = rustfern("scan", path)
        assert run.status == 2 and said in run.err


def zip_of(*names: str, data: bytes = b"x") -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in names:
            archive.writestr(name, data)
    return out.getvalue()


def _tar_of(*infos: tuple[str, bytes, dict[str, object]]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for name, data, facts in infos:
            info = tarfile.TarInfo(name)
            info.size = len(data)
            for key, value in facts.items():
                setattr(info, key, value)
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


def test_hostile_archives_are_said_and_cost_little(
    tmp_path: Path, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch
) -> None:
    whole = _tar_of(
        ("home/ines/.config/x", b"", {}), ("home/ines/a.txt", b"oak " * 40_000, {}), ("home/ines/b.txt", b"larch", {})
    )
    climbing = _tar_of(
        ("../../etc/evil", b"x", {}), ("/home/ines/a.txt", b"oak", {}), ("home/ines/out", b"", {"type": tarfile.SYMTYPE, "linkname": "/etc/passwd"}),
        ("home/ines/hard", b"", {"type": tarfile.LNKTYPE, "linkname": "home/ines/a.txt"}), ("home/ines/gone", b"", {"type": tarfile.LNKTYPE, "linkname": "../x"}),
        ("home/ines/pipe", b"", {"type": tarfile.FIFOTYPE}), ("d/" * 400 + "x", b"", {}),
    )  # fmt: skip
    seven = {name.removesuffix(".7z"): data for name, data in packed("sevenzip.tar.xz").items()}
    for name, data, status, said in (
        ("cut.tar.gz", gzip.compress(whole)[:-30], (3,), "damaged after"),
        ("cut.tar", whole[:100_000], (3,), "this archive"),
        ("garbled.tar", whole[:512] + b"\xff" * 512 + whole[1024:], (3,), "this archive"),
        ("climbs.tar", climbing, (3,), "leads out of it"),
        ("bomb.tar.gz", gzip.compress(_tar_of(("home/x", bytes(80 << 20), {}))), (3,), "would unpack to more than"),
        ("bomb.zip", zip_of("home/x", data=bytes(80 << 20)), (3,), "would unpack to"),
        ("broken.zip", zip_of("a.txt")[:-10], (3,), "cannot be read"),
        ("noise.tar.xz", b"\xfd7zXZ\0" + bytes(100), (3,), "damaged after 0"),
        ("noise.7z", b"7z\xbc\xaf\x27\x1c" + bytes(100), (3,), "cannot be read"),
        ("cut.7z", seven["solid"][:-40], (3,), "the archive stops after"),
        (
            "hole.7z",
            seven["solid"][:40] + bytes(40) + seven["solid"][80:],
            (3,),
            "some of its files could not be unpacked",
        ),
        ("strange.7z", seven["strange"], (3,), "packed by BCJ2"),
        ("locked.7z", seven["locked"], (3,), "protected by a password"),
        ("secret.7z", seven["secret"], (3,), "protected by a password"),
        ("empty.zip", zip_of(), (1,), ""),
    ):
        path = write(tmp_path / name, data)
        run = rustfern("scan", path)
        assert run.status in status and said in " ".join(f"{run.out} {run.err}".split()), (
            name,
            run.status,
            run.err,
            run.out,
        )
    source = registry.Sources().open(str(tmp_path / "climbs.tar"))
    assert source.names(f"{source.root}/home/ines") == ([], ["a.txt", "gone", "hard", "out", "pipe"])
    with source.open(source.entry(f"{source.root}/home/ines/hard")) as stream:
        assert stream.read() == b"oak"
    with pytest.raises(SourceError):
        source.open(source.entry(f"{source.root}/home/ines/pipe"))
    monkeypatch.setattr(archives, "MAX_MEMBERS", 50)
    for name, data in (
        ("many.zip", zip_of(*map(str, range(60)))),
        ("many.tar", _tar_of(*((str(n), b"", {}) for n in range(60)))),
    ):
        with pytest.raises(SourceError, match="more than"):
            registry.Sources().open(str(write(tmp_path / name, data)))


def test_a_protected_member_is_said(tmp_path: Path, rustfern: Rustfern) -> None:
    data = bytearray(
        zip_of("home/ines/.config/x", "home/ines/a.txt~", "home/ines/a.txt", data=b"garboard seam raked out and payed")
    )
    for sign, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        place = -1
        while (place := data.find(sign, place + 1)) >= 0:
            data[place + at] |= 1
    path = write(tmp_path / "locked.zip", bytes(data))
    run = rustfern("scan", path, "--json")
    assert run.status in (0, 1) and any(
        "protected by a password" in problem["message"] for problem in run.json["problems"]
    )


def test_an_archive_of_each_day_is_one_answer(tmp_path: Path, rustfern: Rustfern) -> None:
    """The newest is what is searched, older ones hold its versions; what is only in them was deleted; what programs kept then is not listed."""
    texts = {
        20: "mooring plan of the north pontoon",
        21: "mooring plan of the north pontoon, berth 4 to the Kittiwake",
        22: "mooring plan",
    }
    for day, text in texts.items():
        home = tmp_path / f"src{day}/home/ines"
        write(home / ".config/x", "")
        write(home / "Documents/mooring plan.txt", text, T0 + day * 86_400)
        write(home / ".config/libreoffice/4/user/backup/draft.odt_0.odt", f"odf {day}", T0 + day * 86_400)
        if day == 21:
            write(home / "Documents/orders.txt", "larch and oak for the Petrel", T0)
            write(home / "AppData/Local/Temp/setup.log", "log", T0)
        with tarfile.open(tmp_path / f"home-2026-11-{day}.tar.gz", "w:gz") as archive:
            archive.add(tmp_path / f"src{day}", ".")
    days = [tmp_path / f"home-2026-11-{day}.tar.gz" for day in texts]
    found = rustfern("scan", *days, "--json").json
    assert [home["person"] for home in found["homes"]] == ["ines"]
    told = {each["name"]: each for each in found["documents"]}
    plan, orders = told["mooring plan.txt"], told["orders.txt"]
    best = {copy["id"]: copy for copy in plan["copies"]}[plan["best"]]
    assert (
        plan["situation"] == "overwritten"
        and plan["original"].startswith(str(days[2]))
        and best["path"].startswith(str(days[1]))
    )
    assert [copy["kind"] for copy in plan["copies"]].count("version") == 2 and orders["situation"] == "deleted"
    assert not any(
        "setup.log" in name or ("draft.odt_0" in name and told[name]["situation"] == "deleted") for name in told
    )
    alone = rustfern("scan", days[1], "--json").json
    assert {each["situation"] for each in alone["documents"]} <= {"nothing-lost"} and len(alone["homes"]) == 1
    near = rustfern("scan", tmp_path / "src22", *days, "--json").json["documents"]
    plan = next(each for each in near if each["name"] == "mooring plan.txt")
    assert (
        plan["original"] == str(tmp_path / "src22/home/ines/Documents/mooring plan.txt")
        and plan["situation"] == "overwritten"
    )


def test_dated_images_of_different_machines_stay_apart(tmp_path: Path, rustfern: Rustfern) -> None:
    """A date in its name makes an archive no backup of what is searched beside it: only one series of the same people does, or their living folder."""
    for person, words in (("tobias", "spars and rigging of the Petrel"), ("ines", "keel bolts")):
        write(tmp_path / person / "home" / person / ".config/x", "")
        write(tmp_path / person / "home" / person / "Documents/plan.txt", f"the plan of {person}, {words}", T0)
        write(tmp_path / person / "home" / person / f"Documents/{person}.txt", f"only {person}: {words}", T0)
        for name in (
            f"{person}-2026-11-20",
            f"{person}-2026-11-21",
            person,
            "pc-2026-11-20" if person == "ines" else "pc-2026-11-21",
        ):
            with tarfile.open(tmp_path / f"{name}.tar.gz", "w:gz") as archive:
                archive.add(tmp_path / person, ".")
    for first, second in (
        ("tobias-2026-11-20.tar.gz", "ines.tar.gz"), ("tobias-2026-11-20.tar.gz", "ines-2026-11-21.tar.gz"), ("tobias-2026-11-20.tar.gz", "ines"),
        ("pc-2026-11-20.tar.gz", "pc-2026-11-21.tar.gz"),
    ):  # fmt: skip
        found = rustfern("scan", tmp_path / first, tmp_path / second, "--json").json
        assert {home["person"] for home in found["homes"]} == {"tobias", "ines"}, (first, second)
        assert not [each["name"] for each in found["documents"] if each["situation"] != "nothing-lost"], (first, second)
    own = rustfern("scan", tmp_path / "ines-2026-11-20.tar.gz", tmp_path / "ines", "--json").json
    assert [home["person"] for home in own["homes"]] == ["ines"]


def test_a_folder_with_a_date_has_versions_only_of_what_it_tells(tmp_path: Path, rustfern: Rustfern) -> None:
    """Its name alone makes a file no version of another: not in what a program's release was unpacked to, and not where all else differs."""
    home, backups = tmp_path / "home/ines", tmp_path / "backups/2026-11-20"
    survey = "the garboard seam was raked out and payed with marine glue from the stem to frame seven "
    write(home / ".config/x", "")
    write(home / "Documents/Kittiwake/notes.txt", survey + "before the launch", T0)
    write(home / "Documents/Kittiwake/plan.txt", "two rows of piles, the outer one in oak, the inner one in larch", T0)
    for path, text in {
        "Kittiwake/plan.txt": "ferry times on Sundays, by the harbour office, with the tides of the month",
        "Petrel/notes.txt": "ferry times on Sundays, by the harbour office, with the tides of the month",
        "Petrel/plan.txt": "two rows of piles, the outer one in oak, the inner one in pine",
    }.items():
        write(backups / path, text, T0 - 900)
    write(tmp_path / "sail-20251125.tar.gz/sail/notes.txt", survey + "an older state", T0 - 900)
    write(tmp_path / "sail-20251125.tar.gz/sail/manual.txt", survey, T0 - 900)
    found = rustfern("scan", tmp_path, "--json").json["documents"]
    told = {(each["name"], each["situation"]): {copy["path"] for copy in each["copies"]} for each in found}
    plans = {home / "Documents/Kittiwake/plan.txt", backups / "Petrel/plan.txt", backups / "Kittiwake/plan.txt"}
    assert told == {
        ("plan.txt", "overwritten"): set(map(str, plans)),
        ("notes.txt", "deleted"): {str(backups / "Petrel/notes.txt")},
    }


@pytest.mark.parametrize("at", [9, 4000, -2000])
def test_a_packed_archive_that_is_damaged_ends_nothing(at: int, tmp_path: Path) -> None:
    """Whatever the library of a way of packing raises, it is said of the archive."""
    (tmp_path / "made").mkdir()
    whole = zstd.compress(_tar(tmp_path / "made").read_bytes() + os.urandom(100_000))
    damaged = bytearray(whole)
    damaged[at : at + 40] = b"\xff" * 40
    for data in (bytes(damaged), whole[: len(whole) // 2]):
        path = write(tmp_path / "a.tar.zst", data)
        try:
            source = registry.Sources().open(str(path))
            for folder, _, names in source.walk(source.root, lambda place, message: None):
                for name in names:
                    with suppress(SourceError), source.open(source.entry(f"{folder}/{name}")) as stream:
                        stream.read()
        except SourceError as error:
            assert error.what
