"""Earlier states of volumes inside a disk: shadow copies, LVM snapshots, those that an image keeps."""

from __future__ import annotations

import gzip
import hashlib
import os
import struct
import tarfile
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest
from conftest import Run, best_of, by_name, package, packed, write
from hypothesis import given
from hypothesis import strategies as st
from shadow_writer import BLOCK, FILL, Row, ShadowWriter

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources import live_machine
from rustfern.sources.disks.disk import Disk
from rustfern.sources.disks.interface import DiskBytes
from rustfern.sources.disks.lvm import logical_volumes
from rustfern.sources.disks.lvm_snapshots import Snapshot
from rustfern.sources.disks.shadow_copies import ShadowCopy, copies_of

Rustfern = Callable[..., Run]
FIRST, SECOND = datetime(2026, 11, 20, 20, 33, tzinfo=UTC), datetime(2026, 11, 27, 7, 5, tzinfo=UTC)


class Bytes:
    """Bytes in memory as a disk."""

    def __init__(self, data: bytes) -> None:
        self.data, self.size, self.sector = data, len(data), 512

    def read_at(self, offset: int, length: int) -> bytes:
        return self.data[offset : offset + length] if offset >= 0 else b""

    def locate(self, offset: int, length: int) -> list[tuple[int, int]]:
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        return False


def with_copies() -> bytes:
    """The volume of the office with two shadow copies, written by the stand-in."""
    held = packed("snapshots.tar.xz")
    then, second, now = held["then.img"], held["then2.img"], held["now.img"]
    writer = ShadowWriter([then, second, now])
    writer.keep(FIRST, then, second)
    writer.keep(SECOND, second, now)
    return writer.finished()


def lvm(origin: bytes, store: bytes, made: int) -> bytes:
    """A physical volume with two logical ones: `home`, and `before` that keeps what is written over of it."""
    extent = 1 << 20
    sizes = [-(-len(data) // extent) for data in (origin, store)]
    volume = (
        '{name} {{ id = "{name}" status = ["READ", "WRITE", "VISIBLE"] {more} segment_count = 1\n'
        'segment1 {{ start_extent = 0 extent_count = {count} type = "striped" stripe_count = 1 stripes = ["pv0", {start}] }} }}\n'
    )
    text = (
        'office { id = "g" seqno = 3 status = ["RESIZEABLE"] extent_size = 2048\n'
        'physical_volumes { pv0 { id = "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA" pe_start = 2048 pe_count = 64 } }\n'
        "logical_volumes {\n"
        + volume.format(name="home", more="", count=sizes[0], start=0)
        + volume.format(name="before", more=f"creation_time = {made}", count=sizes[1], start=sizes[0])
        + 'snapshot0 { id = "s" status = ["READ", "WRITE"] segment_count = 1\n'
        'segment1 { start_extent = 0 extent_count = 1 type = "snapshot" chunk_size = 8 origin = "home" cow_store = "before" } }\n'
        "} }\n"
    ).encode()
    out = bytearray((1 << 20) + sum(sizes) * extent)
    label = b"LABELONE" + struct.pack("<QII", 1, 0, 32) + b"LVM2 001"
    out[512 : 512 + 32] = label
    body = b"A" * 32 + struct.pack("<Q", len(out))
    body += struct.pack("<QQ", 1 << 20, 0) + bytes(16) + struct.pack("<QQ", 4096, (1 << 20) - 4096) + bytes(16)
    out[544 : 544 + len(body)] = body
    head = struct.pack("<I", 0) + b" LVM2 x[5A%r0N*>" + struct.pack("<IQQ", 1, 4096, (1 << 20) - 4096)
    head += struct.pack("<QQII", 512, len(text), 0, 0)
    out[4096 : 4096 + len(head)] = head
    out[4096 + 512 : 4096 + 512 + len(text)] = text
    out[1 << 20 : (1 << 20) + len(origin)] = origin
    start = (1 << 20) + sizes[0] * extent
    out[start : start + len(store)] = store
    return bytes(out)


def cow(then: bytes, now: bytes, chunk: int, *, valid: int = 1) -> bytes:
    """A store of exceptions: what each chunk was that is another one now."""
    each = chunk // 16
    changed = [
        number
        for number in range(len(then) // chunk)
        if then[number * chunk :][:chunk] != now[number * chunk :][:chunk]
    ]
    out = bytearray(struct.pack("<4I", 0x70416E53, valid, 1, chunk // 512).ljust(chunk, b"\0"))
    for start in range(0, len(changed) + 1, each):
        part = changed[start : start + each]
        first = len(out) // chunk + 1
        out += b"".join(struct.pack("<QQ", old, first + at) for at, old in enumerate(part)).ljust(chunk, b"\0")
        out += b"".join(then[old * chunk : (old + 1) * chunk] for old in part).ljust(
            each * chunk if len(part) == each else len(part) * chunk, b"\0"
        )
    return bytes(out)


def made(kind: str, folder: Path) -> Path:
    held = packed("snapshots.tar.xz")
    if kind == "shadow":
        return write(folder / "disk.img", with_copies())
    if kind == "image":
        return write(folder / "disk.qcow2", held["q.qcow2"])
    then, now = held["then2.img"], held["now.img"]
    return write(
        folder / "disk.img", lvm(now, cow(then, now, 4096), 0 if kind == "undated" else int(SECOND.timestamp()))
    )


@pytest.mark.parametrize(("kind", "words"), [("shadow", 33), ("lvm", 33), ("undated", 33), ("image", 19)])
def test_what_was_saved_over_is_in_the_state_before(kind: str, words: int, tmp_path: Path, rustfern: Rustfern) -> None:
    disk = made(kind, tmp_path)
    told = rustfern("scan", disk, "--json").json
    assert not told["problems"], told["problems"]
    assert {each["name"] for each in told["documents"] if each["situation"] != "nothing-lost"} == {
        "mooring plan.txt",
        "survey Petrel.txt",
        "timber order.txt",
    }
    plan = by_name(told, "mooring plan.txt")
    best = best_of(plan)
    assert plan["situation"] == "overwritten" and (best["kind"], best["place"], best["words"]) == (
        "version",
        "volume-before",
        words,
    )
    assert ("@undated-before/" if kind == "undated" else "@2026-11-2") in best["path"] and [
        home["person"] for home in told["homes"]
    ] == ["ines"]
    survey = by_name(told, "survey Petrel.txt")
    assert survey["situation"] == "deleted" and best_of(survey)["words"] == 300
    before = [each for each in told["disks"][0]["volumes"] if "@" in each["name"]]
    assert len(before) == (2 if kind == "shadow" else 1) and all(
        each["status"] == "read" and each["files"] == 8 for each in before
    )
    again = rustfern("scan", disk)
    assert ("as it was at an unknown time (before)" if kind == "undated" else "as it was at 2026-11-2") in again.out
    assert rustfern("restore", "--all-best", "--to", tmp_path / "to").status == 0
    restored = (tmp_path / "to/restored.jsonl").read_text()
    assert best["sha256"] in restored


def test_equal_versions_stand_once(tmp_path: Path, rustfern: Rustfern) -> None:
    """The same content in two states is one copy; a state as a root of its own is searched like any folder."""
    disk = made("shadow", tmp_path)
    survey = by_name(rustfern("scan", disk, "--json").json, "survey Petrel.txt")
    assert len({copy["sha256"] for copy in survey["copies"]}) == len(survey["copies"])
    alone = rustfern("scan", f"{disk}/p1@2026-11-20T20:33", "--everything", "--json")
    assert not alone.json["problems"] and [home["person"] for home in alone.json["homes"]] == ["ines"]


def names_at(volume: bytes) -> list[str]:
    return [f"{told.taken:%m-%dT%H:%M}" for told in copies_of(Bytes(volume))]


def test_damaged_tables_are_said(tmp_path: Path, rustfern: Rustfern) -> None:
    whole = with_copies()
    assert names_at(whole) == ["11-20T20:33", "11-27T07:05"]
    (at,) = struct.unpack_from("<Q", whole, 0x1E00 + 48)
    for name, place, data in (
        ("no catalogue", 0x1E00 + 48, struct.pack("<Q", len(whole) + BLOCK)),
        ("another ident", at, b"\0" * 16),
        ("round in a circle", at + 40, struct.pack("<Q", at)),
        ("a list elsewhere", at + 128 + 8, struct.pack("<Q", 512)),
    ):
        broken = bytearray(whole)
        broken[place : place + len(data)] = data
        disk = write(tmp_path / name.replace(" ", "-") / "disk.img", bytes(broken))
        run = rustfern("scan", disk, "--json")
        assert run.status in (0, 1, 3) and "Traceback" not in run.err
        said = [*run.json["problems"], *run.json["disks"][0]["remarks"]]
        assert said and "shadow copies" in str(said), name
    assert names_at(whole[: 0x1E00 + 48] + bytes(8) + whole[0x1E00 + 56 :]) == []


# --- what a block was ---------------------------------------------------------------------------------------------------

BLOCKS = 12


class Machine:
    """A volume of a few blocks, of which what is written over is kept: whole, by sectors, or by where it was moved to."""

    def __init__(self) -> None:
        self.now = bytearray(os.urandom(BLOCKS * BLOCK))
        self.states: list[bytes] = []
        self.stores: list[list[tuple[int, int, bytes, int, int]]] = []
        self.kept: set[int] = set()
        self.sectors: dict[int, int] = {}

    def snapshot(self) -> None:
        self.states.append(bytes(self.now))
        self.stores.append([])
        self.kept, self.sectors = set(), {}

    def write(self, block: int) -> None:
        if self.stores and block not in self.kept:
            self.stores[-1].append((block, 0, bytes(self.now[block * BLOCK : (block + 1) * BLOCK]), 0, 0))
            self.kept.add(block)
        self.now[block * BLOCK : (block + 1) * BLOCK] = os.urandom(BLOCK)

    def write_sector(self, block: int, sector: int) -> None:
        if self.stores and block not in self.kept and not self.sectors.get(block, 0) >> sector & 1:
            self.stores[-1].append((block, 0, bytes(self.now[block * BLOCK : (block + 1) * BLOCK]), 2, 1 << sector))
            self.sectors[block] = self.sectors.get(block, 0) | 1 << sector
        at = block * BLOCK + sector * 512
        self.now[at : at + 512] = os.urandom(512)

    def move(self, block: int, to: int) -> None:
        """What is in a block goes to another one, and the block is written anew: only where it went is kept of it."""
        if block == to or not self.stores or block in self.kept or block in self.sectors:
            return
        self.write(to)
        self.now[to * BLOCK : (to + 1) * BLOCK] = self.now[block * BLOCK : (block + 1) * BLOCK]
        # What is moved there has to be kept once more when that is written over.
        self.kept.discard(to)
        self.sectors.pop(to, None)
        self.stores[-1].append((block, to * BLOCK, b"", 1, 0))
        self.kept.add(block)
        self.now[block * BLOCK : (block + 1) * BLOCK] = os.urandom(BLOCK)

    def volume(self) -> bytes:
        room = FILL * (BLOCK * (8 + 2 * len(self.stores) + sum(map(len, self.stores))))
        writer = ShadowWriter([bytes(self.now) + room])
        for number, rows in enumerate(self.stores):
            told: list[Row] = [
                (block * BLOCK, relative, 0 if flags == 1 else writer.take(data), flags, bitmap)
                for block, relative, data, flags, bitmap in rows
            ]
            writer.add(datetime(2026, 11, 1 + number, tzinfo=UTC), told, per_block=3)
        return bytes(writer.finished())


STEP = st.tuples(
    st.sampled_from(["write", "sector", "move", "snapshot"]), st.integers(1, BLOCKS - 1), st.integers(1, BLOCKS - 1)
)


@given(st.lists(STEP, max_size=25))
def test_each_state_reads_as_it_was(steps: list[tuple[str, int, int]]) -> None:
    machine = Machine()
    machine.snapshot()
    for what, block, other in steps:
        if what == "snapshot":
            machine.snapshot()
        elif what == "move":
            machine.move(block, other)
        elif what == "sector":
            machine.write_sector(block, other)
        else:
            machine.write(block)
    volume = Bytes(machine.volume())
    told = copies_of(volume)
    assert len(told) == len(machine.states)
    for number, state in enumerate(machine.states):
        copy = ShadowCopy(volume, told, number)
        try:
            # The head of the volume is written by the stand-in.
            assert copy.read_at(BLOCK, len(state) - BLOCK) == state[BLOCK:]
            assert copy.read_at(BLOCK + 700, 3 * BLOCK) == state[BLOCK + 700 : 4 * BLOCK + 700]
        except SourceError as error:
            assert "not understood" in str(error), "never other bytes than those that were there"


@given(st.binary(max_size=600), st.integers(0, 2000))
def test_any_table_is_read_or_refused(data: bytes, at: int) -> None:
    volume = bytearray(ANY)
    (catalogue,) = struct.unpack_from("<Q", volume, 0x1E00 + 48)
    volume[catalogue + at : catalogue + at + len(data)] = data
    try:
        told = copies_of(Bytes(bytes(volume)))
        for number in range(len(told)):
            ShadowCopy(Bytes(bytes(volume)), told, number).read_at(0, 4 * BLOCK)
    except (Malformed, SourceError):
        pass


def _any() -> bytes:
    machine = Machine()
    machine.snapshot()
    machine.write(3)
    return machine.volume()


ANY = _any()


@given(st.lists(st.integers(0, 39), max_size=60))
def test_a_snapshot_of_a_logical_volume(changed: list[int]) -> None:
    then = os.urandom(40 * 512)
    now = bytearray(then)
    for chunk in changed:
        now[chunk * 512 : (chunk + 1) * 512] = os.urandom(512)
    snapshot = Snapshot(Bytes(bytes(now)), Bytes(cow(then, bytes(now), 512)), 512)
    assert snapshot.read_at(0, len(then)) == then and snapshot.read_at(700, 5000) == then[700:5700]


def test_a_snapshot_that_ran_full_is_said() -> None:
    data = os.urandom(1 << 20)
    volumes, remarks = logical_volumes([Bytes(lvm(data, cow(data, data, 4096, valid=0), 0))])
    assert [each.name for each in volumes] == ["office-home"] and "ran full" in remarks[0]
    with pytest.raises(Malformed):
        Snapshot(Bytes(data), Bytes(bytes(4096)), 4096)


def test_a_running_system_shows_its_states(tmp_path: Path, rustfern: Rustfern) -> None:
    """By device paths, as one answer with the folder as it is: the folder stands in for the device here."""
    now, device = tmp_path / "Users/ines", tmp_path / "GLOBALROOT/Device/HarddiskVolumeShadowCopy"
    before = Path(f"{device}7{now}")
    for home in (now, before):
        (home / "AppData").mkdir(parents=True)
    write(now / "Documents/plan.txt", "Mooring plan\n", 1_790_000_000)
    write(
        before / "Documents/plan.txt",
        "Mooring plan with all berths of the spring, the north pontoon first\n",
        1_789_000_000,
    )
    assert live_machine.earlier_states(str(now), str(device)) == [str(before)]
    assert live_machine.earlier_states(str(tmp_path / "nothing"), str(device)) == []
    plan = by_name(rustfern("scan", now, before, "--json").json, "plan.txt")
    assert plan["situation"] == "overwritten" and best_of(plan)["place"] == "volume-before-running"


def test_only_what_is_asked_for_is_held(tmp_path: Path) -> None:
    """Names of many states are never held at once."""
    disk = Disk(str(made("shadow", tmp_path)))
    assert all(disk.system(name) is not None for name in (*disk.volumes, *disk.earlier))
    window: DiskBytes = disk.volumes["p1"].window
    assert hashlib.sha256(window.read_at(0, 512)).digest() == hashlib.sha256(with_copies()[:512]).digest()
    assert disk.earlier["p1@2026-11-20T20:33"].of == "p1"


def test_a_folder_of_backups_is_one_answer(tmp_path: Path, rustfern: Rustfern) -> None:
    """Images and dated archives of homes that lie in it are searched as if they were named; other archives, and those in a home, are files."""
    held = packed("snapshots.tar.xz")
    for day, name in ((20, "then.img"), (27, "now.img")):
        write(tmp_path / "images" / f"office-2026-11-{day}.img", held[name])
        with tarfile.open(tmp_path / "made.tar", "w") as archive:
            home = write(
                tmp_path / f"{day}/home/ines/Documents/plan.txt",
                "Mooring plan\n" + "berth\n" * (30 - day),
                1_790_000_000 + day,
            ).parents[1]
            (home / ".config").mkdir()
            archive.add(tmp_path / f"{day}", ".")
        write(tmp_path / "archives" / f"home-2026-11-{day}.tar.gz", gzip.compress((tmp_path / "made.tar").read_bytes()))
    write(tmp_path / "archives/notes-2026-11-20.zip", package({"notes.txt": "oak"}))
    write(tmp_path / "archives/readme.txt", "backups of the yard")
    images = rustfern("scan", tmp_path / "images", "--json").json
    assert by_name(images, "mooring plan.txt")["situation"] == "overwritten" and not images["problems"]
    assert by_name(images, "survey Petrel.txt")["situation"] == "deleted"
    archives = rustfern("scan", tmp_path / "archives", "--everything", "--json").json
    plan = by_name(archives, "plan.txt")
    assert "home-2026-11-27" in plan["original"] and [copy["kind"] for copy in plan["copies"]] == ["saved", "version"]
    assert not [each for each in archives["documents"] if each["name"] == "notes.txt"]
    copied = tmp_path / "ines/Downloads" / "home-2026-11-20.tar.gz"
    write(copied, (tmp_path / "archives/home-2026-11-20.tar.gz").read_bytes())
    (tmp_path / "ines/.config").mkdir()
    assert not rustfern("scan", tmp_path / "ines", "--everything", "--json").json["documents"]


def test_what_was_moved_or_renamed_is_not_gone(tmp_path: Path, rustfern: Rustfern) -> None:
    """Its history goes with it. A file that only has the size and time of one that is gone is not taken for it."""
    home, before = tmp_path / "ines", tmp_path / ".snapshots/1/snapshot/ines"
    (home / ".config").mkdir(parents=True)
    t0 = 1_790_000_000
    for name, text in (
        ("moved.txt", "Kittiwake on the north pontoon\n"),
        ("old name.txt", "Launch schedule: Petrel\n"),
        ("gone.txt", "Timber order, larch\n"),
    ):
        write(before / "Documents" / name, text, t0)
    write(
        tmp_path / ".snapshots/2/snapshot/ines/Documents/moved.txt",
        "Kittiwake on the north pontoon, berth four, until the spring tide\n",
        t0 - 500,
    )
    write(home / "Documents/2026/moved.txt", "Kittiwake on the north pontoon\n", t0)
    write(home / "Documents/new name.txt", "Launch schedule: Petrel\n", t0)
    write(home / "Documents/other.txt", "Timber order, birch\n", t0)
    # Two of one template: the one that is gone was worked on, the other one was there all the time.
    for number, text in ((1, "Report form, with all of the year's surveys in it\n"), (2, "Report form\n")):
        write(
            tmp_path / f".snapshots/{number}/snapshot/ines/Documents/a/report.txt",
            text,
            t0 + (100 if number == 1 else 0),
        )
        write(tmp_path / f".snapshots/{number}/snapshot/ines/Documents/b/report.txt", "Report form\n", t0)
    write(home / "Documents/b/report.txt", "Report form\n", t0)
    told = rustfern("scan", tmp_path, "--json").json
    assert {each["name"]: each["situation"] for each in told["documents"] if each["situation"] != "nothing-lost"} == {
        "moved.txt": "overwritten",
        "gone.txt": "deleted",
        "report.txt": "deleted",
    }
    report = next(each for each in told["documents"] if each["situation"] == "deleted" and each["name"] == "report.txt")
    assert report["original"] == str(home / "Documents/a/report.txt") and best_of(report)["words"] == 10
    moved = by_name(told, "moved.txt")
    assert (
        moved["original"] == str(home / "Documents/2026/moved.txt")
        and "was moved here" in best_of(moved)["evidence"][0]["text"]
    )
