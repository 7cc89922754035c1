"""Disks: what real drivers, table makers and image makers wrote, searched by the built command and by its own readers."""

from __future__ import annotations

import errno
import hashlib
import json
import os
import random
import shutil
import struct
import tarfile
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import DATA, Run
from hypothesis import given
from hypothesis import strategies as some

from rustfern.core.errors import Malformed, SourceError, WrongUsage
from rustfern.core.model import Entry
from rustfern.core.paths import plain_path
from rustfern.operations import copy_disk
from rustfern.sources.disks.containers import raw, vhdx
from rustfern.sources.disks.containers.registry import open_container
from rustfern.sources.disks.ext import inode as inodes
from rustfern.sources.disks.fat import directory
from rustfern.sources.disks.interface import HOLE, Window
from rustfern.sources.disks.lvm import _parsed
from rustfern.sources.disks.ntfs import attributes, packed
from rustfern.sources.disks.partitions import layout_of
from rustfern.sources.disks.source import DiskSource
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import LOST, ROOT, Tree, safe_name
from rustfern.sources.disks.unread import Ranges
from rustfern.sources.registry import Sources

Rustfern = Callable[..., Run]
CLEARED = ("ext2",)
"""Kinds of which the kernel leaves nothing of a deleted file, as there is no journal."""


@pytest.fixture(scope="session")
def disks(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The disks of the test data, unpacked; their holes cost nothing."""
    top = tmp_path_factory.mktemp("disks")
    with tarfile.open(DATA / "disks.tar.xz") as archive:
        for member in archive:
            target = top / member.name
            target.parent.mkdir(exist_ok=True)
            data = archive.extractfile(member)
            assert data is not None
            with target.open("wb") as out:
                while block := data.read(1 << 16):
                    if block.strip(b"\0"):
                        out.write(block)
                    else:
                        out.seek(len(block), os.SEEK_CUR)
                out.truncate(member.size)
    return top


def truth() -> dict[str, Any]:
    with tarfile.open(DATA / "disks.tar.xz") as archive:
        stream = archive.extractfile("truth.json")
        assert stream is not None
        found: dict[str, Any] = json.loads(stream.read())
    return found


TRUTH = truth()


def digest(path: Path) -> tuple[str, int]:
    return hashlib.sha256(path.read_bytes()).hexdigest(), path.stat().st_mtime_ns


def everything(source: DiskSource) -> Iterator[Entry]:
    """All files that a disk tells of, living and deleted."""
    for folder, _, names in source.walk(source.root, lambda path, message: None):
        for path in [*(os.path.join(folder, name) for name in names), *source.deleted_in(folder)[1]]:
            entry = source.entry(path)
            if entry.is_file:
                yield entry


def opened(path: Path) -> DiskSource:
    source = Sources().open(str(path))
    assert isinstance(source, DiskSource)
    return source


def changed(path: Path, target: Path, *writes: tuple[int, bytes]) -> Path:
    """A copy of a disk with some bytes written over."""
    shutil.copyfile(path, target)
    with target.open("r+b") as out:
        for at, data in writes:
            out.seek(at)
            out.write(data)
    return target


@pytest.mark.parametrize("name", TRUTH)
def test_all_that_a_real_disk_records_is_found(disks: Path, name: str) -> None:
    """Every file with its bytes, name, folder and time, deleted ones too; nothing that lives is called deleted, or the other way round."""
    told = TRUTH[name]
    image = disks / f"{name}.img"
    before = digest(image)
    source = opened(image)
    found: dict[str, list[Entry]] = {}
    for entry in everything(source):
        with source.open(entry) as stream:
            found.setdefault(hashlib.sha256(stream.read()).hexdigest(), []).append(entry)
        if entry.extents:
            pieces = b"".join(source.disk.bytes.read_at(at, length) for at, length in entry.extents)
            with source.open(entry) as stream:
                assert stream.read() == pieces[: entry.size]
    for name_, facts in told["files"].items():
        if facts["deleted"] and told["type"] in CLEARED:
            continue
        wanted = os.path.join(image, told["volume"], facts.get("name", name_))
        here = [entry for entry in found.get(facts["sha256"], []) if entry.deleted == facts["deleted"]]
        assert here, name_
        alike = [entry for entry in here if _is_named(plain_path(entry.path), wanted)]
        assert alike, (name_, [entry.path for entry in here])
        assert alike[0].modified is not None
        assert abs(alike[0].modified.timestamp() - facts["mtime"]) <= 2
        assert not facts["deleted"] or alike[0].remaining == 1.0
    volume = next(each for each in source.told().volumes if each.name == told["volume"])
    assert (volume.type, volume.status) == (told["type"], "read")
    assert source.told().table == told.get("table", "mbr" if name.startswith("lvm") else "none")
    assert digest(image) == before


def _is_named(path: str, wanted: str) -> bool:
    """Whether a path is the one that is wanted: a short name has lost its first letter, a driver may have added to a name on its way out."""
    short = os.path.join(os.path.dirname(wanted), "_" + os.path.basename(wanted)[1:])
    return path in (wanted, short) or path.startswith(wanted + ".")


SEARCHED = ("ntfs", "exfat", "fat32", "ext4", "lvm-striped", "mbr-logical")


@pytest.mark.parametrize("name", SEARCHED)
def test_scan_and_restore_of_a_disk(rustfern: Rustfern, disks: Path, tmp_path: Path, name: str) -> None:
    """The built command finds each deleted document by its record, says where it lies, and restores it whole."""
    image, told = disks / f"{name}.img", TRUTH[name]
    answer = rustfern("scan", image, "--json", "--case", tmp_path / "a.case").json
    disk = answer["disks"][0]
    assert (disk["path"], disk["size"], disk["container"]) == (str(image), image.stat().st_size, "raw")
    copies = {copy["sha256"]: copy for document in answer["documents"] for copy in document["copies"]}
    gone = {facts["sha256"] for name_, facts in told["files"].items() if facts["deleted"] and "lock" not in name_}
    # A lock that was deleted shows a session that ended in order.
    kept = [document for document in answer["documents"] if document["name"] == "Kept.docx"]
    assert all(document["situation"] == "nothing-lost" for document in kept)
    assert {lock["deleted"] for document in kept for lock in document["locks"]} <= {True}
    assert gone <= set(copies)
    for sha256 in gone:
        copy = copies[sha256]
        assert (copy["deleted"], copy["state"], copy["remaining"]) == (True, "intact", 1.0)
        assert copy["kind"] in ("deleted", "temporary", "backup")
    ids = [copies[sha256]["id"] for sha256 in sorted(gone)[:3]]
    done = rustfern("restore", *ids, "--to", tmp_path / "out", "--case", tmp_path / "a.case", "--json")
    assert done.status == 0, done.err
    assert {each["sha256"] for each in done.json["restored"]} == set(sorted(gone)[:3])


def test_every_container_holds_the_same_disk(disks: Path) -> None:
    forms = disks / "forms"
    whole = (forms / "disk.img").read_bytes()
    chance = random.Random(1)
    seen = set()
    for path in sorted(forms.iterdir()):
        if (
            path.name in ("disk.img", "encrypted.qcow2", "parts.002", "parts.003")
            or "-s001" in path.name
            or "-f" in path.name
        ):
            continue
        expected = whole[: 1 << 20] + b"\xab" * 4096 + whole[(1 << 20) + 4096 :] if "over" in path.name else whole
        form, disk = open_container(str(path))
        seen.add(form)
        data = disk.read_at(0, disk.size)
        assert data[: len(expected)] == expected, path.name
        assert not data[len(expected) :].strip(b"\0")
        for _ in range(100):
            at, length = chance.randrange(disk.size), chance.randrange(1, 200_000)
            assert disk.read_at(at, length) == data[at : at + length], (path.name, at, length)
    assert seen == {"split", "vhd", "vhdx", "vmdk", "qcow2"}


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("encrypted.qcow2", "encrypted"),
        ("alone.qcow2", "not beside it"),
        ("cut.vmdk", "damaged"),
        ("circle.qcow2", "circle"),
    ],
)
def test_containers_that_cannot_be_read_say_why(
    rustfern: Rustfern, disks: Path, tmp_path: Path, name: str, said: str
) -> None:
    forms = disks / "forms"
    target = tmp_path / name
    if name == "alone.qcow2":
        shutil.copyfile(forms / "over.qcow2", target)
    elif name == "cut.vmdk":
        target.write_bytes((forms / "stream.vmdk").read_bytes()[:66_000])
    elif name == "circle.qcow2":
        data = bytearray((forms / "over.qcow2").read_bytes())
        at, length = struct.unpack_from(">QI", data, 8)
        data[at : at + length] = b"\0" * length
        data[at : at + len(name)] = name.encode()
        struct.pack_into(">I", data, 16, len(name))
        target.write_bytes(data)
    else:
        shutil.copyfile(forms / name, target)
    done = rustfern("scan", target)
    assert done.status == 3
    assert said in done.err
    assert "Traceback" not in done.err


def test_a_log_of_vhdx_that_was_not_replayed_is_replayed_in_memory(disks: Path, tmp_path: Path) -> None:
    """A log written here by the specification: one entry that writes a sector of the disk, and one that blanks another."""
    path = changed(disks / "forms/dynamic.vhdx", tmp_path / "dirty.vhdx")
    _, disk = open_container(str(path))
    before = disk.read_at(0, disk.size)
    data = bytearray(path.read_bytes())
    table = raw.RawDisk(str(path))
    header = vhdx._header(table)
    length, log_at = struct.unpack_from("<IQ", header, 68)
    place = next(at for at in range(1 << 20, len(data), 4096) if data[at : at + 4096] == before[:4096])
    other = next(at for at in range(place, len(data), 4096) if data[at : at + 4096].strip(b"\0") and at != place)
    guid = uuid.uuid4().bytes_le
    new = b"replayed" * 512
    entry = bytearray(8192)
    struct.pack_into("<4sIIIQI4x16s", entry, 0, b"loge", 0, 8192, 0, 7, 2, guid)
    struct.pack_into("<4s4s8sQQ", entry, 64, b"desc", new[-4:], new[:8], place, 7)
    struct.pack_into("<4sIQQQ", entry, 96, b"zero", 0, 4096, other, 7)
    struct.pack_into("<4sI4084sI", entry, 4096, b"data", 0, new[8:4092], 7)
    struct.pack_into("<I", entry, 4, vhdx._crc32c(bytes(entry)))
    data[log_at : log_at + 8192] = entry
    for at in (64 << 10, 128 << 10):
        data[at + 48 : at + 64] = guid
        data[at + 4 : at + 8] = bytes(4)
        struct.pack_into("<I", data, at + 4, vhdx._crc32c(bytes(data[at : at + 4096])))
    path.write_bytes(data)
    after = open_container(str(path))[1].read_at(0, disk.size)
    assert after[:4096] == new
    assert sum(before[at : at + 4096] != after[at : at + 4096] for at in range(0, len(after), 4096)) == 2
    path.write_bytes(data[:log_at] + bytes(length) + data[log_at + length :])
    with pytest.raises(SourceError, match="log"):
        open_container(str(path))


def test_two_records_of_one_name_are_both_there_and_told_apart(rustfern: Rustfern, disks: Path, tmp_path: Path) -> None:
    """A document that was saved over: the deleted record of before has the path of the one that lives, and is restored by its id."""
    facts = TRUTH["ext4"]["files"]
    now, before = facts["Yard/Saved twice.docx"], facts["Yard/Saved twice.docx (before)"]
    answer = rustfern("scan", disks / "ext4.img", "--everything", "--json", "--case", tmp_path / "a.case").json
    document = next(each for each in answer["documents"] if each["name"] == "Saved twice.docx")
    by_sum = {copy["sha256"]: copy for copy in document["copies"]}
    assert by_sum[now["sha256"]]["path"] == by_sum[before["sha256"]]["path"]
    assert by_sum[now["sha256"]]["record"] is None
    assert by_sum[before["sha256"]]["record"] is not None
    assert document["situation"] == "nothing-lost"
    done = rustfern(
        "restore", by_sum[before["sha256"]]["id"], "--to", tmp_path / "out", "--case", tmp_path / "a.case", "--json"
    )
    assert done.json["restored"][0]["sha256"] == before["sha256"]


def test_a_disk_can_be_named_whole_by_volume_or_by_folder(rustfern: Rustfern, disks: Path) -> None:
    image = disks / "gpt-damaged.img"
    for root in (image, image / "p3", image / "p3/Yard", image / "p3/yard"):
        done = rustfern("scan", root, "--json")
        assert done.status == 0, done.err
        assert any(document["name"] == "Timber order.txt" for document in done.json["documents"])
    assert rustfern("scan", image / "p9").status == 2
    look = rustfern("look", image / "p3/Yard/Kept.docx")
    assert "601" in look.out or "612" in look.out
    check = rustfern("check", "--recursive", "--json", image).json
    assert {each["state"] for each in check["files"]} == {"intact"}
    assert "image of a disk" in rustfern("check", image).out
    assert rustfern("ready", image, "--json").json["disks"][0]["table"] == "gpt"


def test_what_a_later_file_took_is_damaged_however_well_it_opens(
    rustfern: Rustfern, disks: Path, tmp_path: Path
) -> None:
    """The allocation map says that a cluster of a deleted text is in use again: it reads as text, and is not called whole."""
    source = opened(disks / "fat16.img")
    path = f"{disks / 'fat16.img'}/p1/Yard/Timber order.txt"
    entry = source.entry(path)
    system = source.disk.system("p1")
    assert entry.extents and system is not None
    cluster = (entry.extents[0][0] - system.clusters_at) // system.cluster + 2
    reserved, size = struct.unpack("<H6xH", source.disk.bytes.read_at(14, 10))
    image = changed(
        disks / "fat16.img",
        tmp_path / "taken.img",
        *((reserved * 512 + copy * size * 512 + 2 * cluster, b"\xff\xff") for copy in (0, 1)),
    )
    answer = rustfern("scan", image, "--document", "Timber order", "--json").json
    copy = next(c for d in answer["documents"] if d["name"] == "Timber order.txt" for c in d["copies"])
    assert copy["state"] == "damaged"
    assert copy["remaining"] < 1
    assert "later files have taken" in copy["reason"]


def test_the_change_journal_says_when_and_what_else_was_deleted(disks: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The entries are written by their documentation into a stream of a file that stands for the journal: no driver here writes them."""
    from rustfern.core.times import stamp
    from rustfern.operations.scan import scan
    from rustfern.sources.disks.ntfs.volume import NtfsVolume

    def stand_in(volume: NtfsVolume) -> list[int]:
        return [
            int(volume.tree.keys[node]) for node in range(2, len(volume.tree)) if volume.tree.names[node] == "journal"
        ]

    monkeypatch.setattr(NtfsVolume, "_change_journals", stand_in)
    documents = {document.name: document for document in scan([str(disks / "ntfs.img")]).documents}
    when = [stamp(documents[name].records[-1].when) for name in ("Timber order.txt", "Lost long ago.docx")]
    assert when == ["2026-02-13T16:26:40Z", "2026-02-25T06:13:20Z"]
    lost = documents["Lost long ago.docx"]
    assert (lost.verdict.situation, lost.verdict.best, lost.copies) == ("deleted", None, ())
    assert "journal of changes says that it was deleted" in documents["Timber order.txt"].records[-1].says


def test_marks_of_a_download_and_encrypted_files_are_said(rustfern: Rustfern, disks: Path, tmp_path: Path) -> None:
    image = disks / "ntfs.img"
    assert "downloaded" in rustfern("check", image / "p1/Yard/Kept.docx").out
    # The flag of the file system that a content is encrypted, set here by hand: no driver here encrypts.
    source = opened(image)
    system = source.disk.system("p1")
    found = source.held.node(f"{image}/p1/Yard/Launch list.docx")
    assert system is not None and found is not None
    record = int(system.tree.keys[found[2]])
    place = system._records.runs[0][0] + record * 1024  # type: ignore[attr-defined]
    data = source.disk.bytes.read_at(place, 1024)
    at = struct.unpack_from("<H", data, 20)[0]
    while struct.unpack_from("<I", data, at)[0] != 0x80:
        at += struct.unpack_from("<I", data, at + 4)[0]
    locked = changed(image, tmp_path / "locked.img", (place + at + 12, b"\x00\x40"))
    checked = rustfern("check", "--json", locked / "p1/Yard/Launch list.docx").json["files"][0]
    assert checked["state"] == "encrypted"
    assert rustfern("restore", "Launch list.docx", "--in", locked, "--to", tmp_path / "out").status in (1, 3)


@pytest.mark.parametrize(
    ("name", "writes", "remark"),
    [
        ("ntfs", ((0, bytes(512)),), "boot sector"),
        ("fat32", ((0, bytes(512)),), "boot sector"),
        ("exfat", ((0, bytes(512)),), "boot sector"),
        ("ext4", ((1024, bytes(1024)),), "superblock"),
        ("gpt-damaged", (), ""),
    ],
)
def test_damaged_beginnings_are_made_up_for_by_their_copies(
    disks: Path, tmp_path: Path, name: str, writes: Any, remark: str
) -> None:
    image = changed(disks / f"{name}.img", tmp_path / "broken.img", *writes)
    found = {entry.name for entry in everything(opened(image))}
    assert {"Kept.docx", "Launch list.docx"} <= found
    told = [each.message or "" for each in opened(image).told().volumes]
    assert any(remark in message for message in told)


@pytest.mark.parametrize("wiped", [{}, {"ntfs": 512, "ext4": 2048, "fat32": 512, "exfat": 512, "hfs": 1536}])
def test_volumes_without_a_table_are_found_by_their_marks(disks: Path, tmp_path: Path, wiped: dict[str, int]) -> None:
    """Eight volumes one behind the other, at odd places; then with their first marks wiped, by the copies of these."""
    image = tmp_path / "all.img"
    at, expected = 1 << 20, []
    with image.open("wb") as out:
        for number, name in enumerate(("ntfs", "ext4", "fat32", "exfat", "hfs", "fat16", "ext2", "ext4-4k")):
            data = (disks / f"{name}.img").read_bytes()
            out.seek(at)
            out.write(bytes(wiped.get(name, 0)) + data[wiped.get(name, 0) :])
            expected.append(
                (at, TRUTH[name]["type"], sum(not facts["deleted"] for facts in TRUTH[name]["files"].values()))
            )
            at = -(-(at + len(data)) // 512) * 512 + 512 * 7 * number
        out.truncate(at + (1 << 20))
    found = opened(image).told()
    assert [(each.offset, each.type, each.status) for each in found.volumes] == [
        (at, kind, "read") for at, kind, _ in expected
    ]
    assert all(each.files >= living for each, (_, _, living) in zip(found.volumes, expected, strict=True))
    assert any("table" in remark for remark in found.remarks)


@pytest.mark.parametrize("name", ["exfat", "fat32"])
def test_folders_that_a_new_format_left_are_stitched_together(disks: Path, tmp_path: Path, name: str) -> None:
    """The top folder and the chains are blank, as after a quick format: what lies deeper is found by its own entries."""
    source = opened(disks / f"{name}.img")
    boot = source.disk.bytes.read_at(0, 512)
    system = source.disk.system("p1")
    assert system is not None
    if name == "exfat":
        table_at, table_size, root = *struct.unpack_from("<II", boot, 80), struct.unpack_from("<I", boot, 96)[0]
        top = system.clusters_at + (root - 2) * system.cluster
        kept = source.disk.bytes.read_at(top, 96)
        bitmap = (
            system.clusters_at
            + (struct.unpack_from("<I", kept, 32 * next(n for n in range(3) if kept[32 * n] == 0x81) + 20)[0] - 2)
            * system.cluster
        )
        writes = [
            (table_at * 512 + 8, bytes(table_size * 512 - 8)),
            (bitmap, b"\x0f" + bytes(255)),
            (top, kept.ljust(system.cluster, b"\0")),
        ]
    else:
        reserved, size = struct.unpack_from("<H", boot, 14)[0], struct.unpack_from("<I", boot, 36)[0]
        writes = [(reserved * 512 + 12, bytes(2 * size * 512 - 12)), (system.clusters_at, bytes(system.cluster))]
    found = [
        plain_path(entry.path)
        for entry in everything(opened(changed(disks / f"{name}.img", tmp_path / "new.img", *writes)))
    ]
    assert any("/?/" in path and path.endswith("/Old jobs/Heron/Keel survey.docx") for path in found), found[:5]
    assert any(path.endswith("/berth 001 of the inner harbour.txt") for path in found)


@pytest.mark.parametrize(
    ("mark", "at", "said"),
    [
        (b"LUKS\xba\xbe", 0, "encrypted"),
        (b"-FVE-FS-", 3, "encrypted"),
        (b"NXSB", 32, "APFS"),
        (b"_BHRfS_M", 0x10040, "btrfs"),
        (b"XFSB", 0, "XFS"),
        (b"ReFS\0\0\0\0", 3, "ReFS"),
        (b"\x10\x20\xf5\xf2", 1024, "F2FS"),
        (b"NSR03", 0x8801, "UDF"),
        (b"\x02\0\0\0\0\0\x34\x34", 1024, "NILFS2"),
        (b"\xfc\x4e\x2b\xa9\x01\0\0\0", 4096, "RAID"),
    ],
)
def test_volumes_that_are_not_read_are_named(
    rustfern: Rustfern, tmp_path: Path, mark: bytes, at: int, said: str
) -> None:
    image = tmp_path / "other.img"
    with image.open("wb") as out:
        out.truncate(2 << 20)
        out.seek(at)
        out.write(mark)
    done = rustfern("scan", image)
    assert said in done.out
    assert "Nothing could be searched" in done.out and "No lost document" not in done.out
    volume = rustfern("scan", image, "--json").json["disks"][0]["volumes"][0]
    assert volume["status"] == ("encrypted" if said == "encrypted" else "unknown")
    assert volume["message"]
    assert "no volume of it can be read here" in rustfern("ready", image).out


@pytest.mark.parametrize(
    ("name", "table", "kind"),
    [("mbr-logical", "mbr", "fat16"), ("gpt-4k", "gpt", "")],
)
@pytest.mark.parametrize(("mark", "at"), [(b"CD001", 0x8001), (b"_BHRfS_M", 0x10040), (b"", 1024)])
def test_what_once_had_the_whole_disk_does_not_hide_its_table(
    disks: Path, tmp_path: Path, name: str, table: str, kind: str, mark: bytes, at: int
) -> None:
    """Where a disk was partitioned anew, marks of before stay in the gap before the first partition."""
    if not mark and table == "gpt":
        pytest.skip("entries of a GPT lie where a superblock would")
    mark = mark or (disks / "ext4.img").read_bytes()[1024:2048]
    disk = opened(changed(disks / f"{name}.img", tmp_path / "again.img", (at, mark))).disk
    before = opened(disks / f"{name}.img").disk
    assert disk.table == table
    assert any("the table was followed" in remark for remark in disk.remarks)
    assert [each.offset for each in disk.volumes.values()] == [each.offset for each in before.volumes.values()]
    assert kind in [each.type for each in disk.volumes.values()] or not kind


def test_a_table_at_the_end_does_not_hide_what_has_the_whole_disk(disks: Path, tmp_path: Path) -> None:
    """A disk with a GPT that was then formatted whole: only the copy of the table is left, and leads to what was."""
    data = bytearray((disks / "gpt-4k.img").read_bytes())
    ext4 = (disks / "ext4.img").read_bytes()
    data[: min(len(ext4), len(data) - (64 << 10))] = ext4[: len(data) - (64 << 10)]
    path = tmp_path / "whole.img"
    path.write_bytes(data)
    disk = opened(path).disk
    assert disk.table == "none"
    assert [each.type for each in disk.volumes.values()] == ["ext4"]


def test_marks_of_before_do_not_hide_a_volume(rustfern: Rustfern, disks: Path, tmp_path: Path) -> None:
    image = changed(disks / "fat16.img", tmp_path / "again.img", (0x20000, b"\x0c\xb1\xba\0\0\0\0\0"))
    assert rustfern("scan", image, "--json").json["disks"][0]["volumes"][0]["type"] == "fat16"


@pytest.mark.parametrize(
    ("inner", "said"), [("", "this is a disk"), ("/p1", "this is a folder"), ("/p1/Yard", "this is a folder")]
)
def test_what_is_no_file_is_not_looked_at(rustfern: Rustfern, disks: Path, inner: str, said: str) -> None:
    done = rustfern("look", f"{disks / 'ntfs.img'}{inner}")
    assert done.status == 2
    assert said in done.err and "rustfern scan" in done.err


class Failing:
    """A disk of which some bytes cannot be read; how often each sector was asked for."""

    sector = 512

    def __init__(self, data: bytes, bad: list[tuple[int, int]]) -> None:
        self._data, self._bad, self.size = data, bad, len(data)
        self.asked: list[tuple[int, int]] = []

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        self.asked.append((offset, length))
        if any(start < offset + length and offset < start + count for start, count in self._bad):
            raise SourceError("it cannot be read")
        return self._data[offset : offset + length]

    def locate(self, offset: int, length: int) -> list[tuple[int, int]]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        return False


def test_a_failing_disk_is_copied_around_its_bad_places(
    rustfern: Rustfern, disks: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All but the bad sectors is there, each was asked for once a pass; what has a part of them is called damaged on the image."""
    data = (disks / "ntfs.img").read_bytes()
    source = opened(disks / "ntfs.img")
    entry = source.entry(f"{disks / 'ntfs.img'}/p1/Yard/Kept.docx")
    assert entry.extents
    bad = [(entry.extents[0][0] + 1024, 512), (10_000 * 512, 1536)]
    failing = Failing(data, bad)
    monkeypatch.setattr(copy_disk, "open_container", lambda path, health: ("device", failing))
    done = copy_disk.copy_disk(str(disks / "ntfs.img"), str(tmp_path / "to"))
    assert list(done.unread) == sorted(bad)
    copied = bytearray(Path(done.image).read_bytes())
    expected = bytearray(data)
    for at, length in bad:
        expected[at : at + length] = bytes(length)
    assert copied == expected
    for at, _ in bad:
        passes = [length for start, length in failing.asked if start <= at < start + length]
        assert len(passes) == len(set(passes)) <= 4
    # Another run asks for what is missing alone.
    failing.asked.clear()
    again = copy_disk.copy_disk(str(disks / "ntfs.img"), str(tmp_path / "to"))
    assert again.before == len(data) - 2048
    assert sum(length for _, length in failing.asked) < 1 << 20
    monkeypatch.undo()
    answer = rustfern("scan", done.image, "--everything", "--happened", "wont-open", "--json").json
    kept = next(d for d in answer["documents"] if d["name"] == "Kept.docx")
    assert kept["copies"][0]["state"] == "damaged"
    assert "could not be read when the image" in kept["copies"][0]["reason"]


def test_keeping_a_disk_gives_an_image_that_is_searched(rustfern: Rustfern, disks: Path, tmp_path: Path) -> None:
    image = disks / "forms/v3.qcow2"
    done = rustfern("keep", image, "--to", tmp_path / "to", "--json")
    assert done.status == 0, done.err
    assert Path(done.json["image"]).read_bytes() == (disks / "forms/disk.img").read_bytes()
    assert done.json["unread"] == []
    assert rustfern("scan", done.json["image"], "--everything").status in (0, 1)
    other = tmp_path / "to" / "other"
    other.mkdir()
    (other / "fat12.img").write_bytes(b"somebody's")
    refused = rustfern("keep", disks / "fat12.img", "--to", other)
    assert refused.status == 2
    assert (other / "fat12.img").read_bytes() == b"somebody's"


def test_a_device_without_rights_says_what_to_type(monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(path: str, flags: int) -> int:
        raise PermissionError(errno.EACCES, "no", path)

    monkeypatch.setattr(os, "open", refuse)
    monkeypatch.setattr(raw, "is_device", lambda path: True)
    with pytest.raises(SourceError) as caught:
        raw.RawDisk("/dev/sdz")
    assert "sudo rustfern scan /dev/sdz" in str(caught.value)


def test_an_image_that_shrinks_while_it_is_read_is_said(tmp_path: Path) -> None:
    path = tmp_path / "a.img"
    path.write_bytes(b"x" * 10_000)
    disk = raw.RawDisk(str(path))
    os.truncate(path, 4_000)
    assert disk.read_at(0, 4_000) == b"x" * 4_000
    with pytest.raises(SourceError, match="ends at byte 4000"):
        disk.read_at(0, 8_000)


def test_drive_letters_and_mount_points_lead_to_other_volumes(disks: Path, tmp_path: Path) -> None:
    from rustfern.operations.session import Session
    from rustfern.operations.volumes import note_other_volumes
    from rustfern.search.homes import find_homes
    from rustfern.search.recorded_paths import RecordedPaths
    from rustfern.settings.interface import Value
    from rustfern.settings.readers import mounts

    told = list(
        mounts.letters(
            [Value("MountedDevices", "\\DosDevices\\D:", b"abcd" + bytes(8)), Value("", "\\??\\Volume{1}", b"")]
        )
    )
    assert told == [("D", b"abcd" + bytes(8))]
    table = "# a comment\nUUID=AB-CD /srv/yard\\040files ext4 defaults 0 2\n/dev/sda1 / ext4\n"
    assert list(mounts.mount_points(table)) == [("/srv/yard files", "UUID=AB-CD")]
    session = Session()
    source = session.sources.open(str(disks / "mbr-logical.img"))
    homes = find_homes(source, lambda path, message: None)
    note_other_volumes(session, homes)  # nothing tells of any here
    session.sources.other_volumes["/v/p2"] = {"D": "/v/p3", "/srv/files": "/v/p4"}
    from rustfern.core.model import Home, Layout

    paths = RecordedPaths(session.sources, [], ["/v"])
    windows, linux = (Home("/v/p2/h", layout, "ines", "/v/p2", "/v") for layout in (Layout.WINDOWS, Layout.LINUX))
    assert paths.translate("D:\\Jobs\\Survey.docx", windows) == "/v/p3/Jobs/Survey.docx"
    assert paths.translate("/srv/files/a/b.odt", linux) == "/v/p4/a/b.odt"
    assert paths.translate("E:\\x.docx", windows) is None


# --- HFS+: a real writer made the volume; what was deleted is a stand-in --------------------------------------------------


def test_hfs_plus_with_a_record_that_only_the_journal_has(disks: Path, tmp_path: Path) -> None:
    """The volume is of a real writer. There is none here that deletes: the record is taken out of its node, and the node of before laid into a journal."""
    data = bytearray((disks / "hfs.img").read_bytes())
    living = {entry.name: entry for entry in everything(opened(disks / "hfs.img"))}
    assert {"Kept.docx", "Gone.docx", "größer, Lärche.txt"} <= set(living)
    block = struct.unpack_from(">I", data, 1024 + 40)[0]
    name = "Gone.docx".encode("utf-16-be")
    at = data.find(name)
    node = at // 512 * 512
    while not (data[node + 8] == 0xFF and data[node + 9] == 1 and data[node + 12 : node + 14] == b"\0\0"):
        node -= 512
    size = struct.unpack_from(">H", data, data.find(b"\0\0\0\0\0\0\0\0\1\0\0\3\0\0") + 32)[0]
    old = bytes(data[node : node + size])
    data[at : at + len(name)] = "Gone.docy".encode("utf-16-be")  # another file has taken the record
    gone = living["Gone.docx"].inode
    assert gone
    key = at - 8
    record = key + 2 + struct.unpack_from(">H", data, key)[0]
    struct.pack_into(">I", data, record + 8, 4_000)  # under another number
    start = len(data)
    info = bytearray(block)
    struct.pack_into(">I32xQQ", info, 0, 1, start + block, 8 * block)
    journal = bytearray(8 * block)
    journal[:4] = b"JNLx"
    journal[1024 : 1024 + len(old)] = old
    struct.pack_into(">I", data, 1024 + 4, struct.unpack_from(">I", data, 1024 + 4)[0] | 1 << 13)
    struct.pack_into(">I", data, 1024 + 12, start // block)
    image = tmp_path / "hfs.img"
    image.write_bytes(data + info + journal)
    source = opened(image)
    found = {entry.name: entry for entry in everything(source) if entry.deleted}
    assert list(found) == ["Gone.docx"]
    with source.open(found["Gone.docx"]) as stream:
        assert (
            hashlib.sha256(stream.read()).hexdigest()
            == hashlib.sha256(opened(disks / "hfs.img").open(living["Gone.docx"]).read()).hexdigest()
        )


# --- parts ----------------------------------------------------------------------------------------------------------------


def test_a_tree_has_no_loops_whatever_it_is_told() -> None:
    tree = Tree()
    first = tree.add("a", 3, 10, folder=True, deleted=True)
    second = tree.add("b", first, 11, folder=True, deleted=True)
    tree.move(first, second)
    tree.add("alone", 99, 12, folder=False, deleted=False)
    tree.finish()
    assert all(len(tree.parts(node)) < 5 for node in range(len(tree)))
    assert tree.parts(second)[0] == "?"
    assert LOST in tree.children(ROOT)


@given(some.text(min_size=1))
def test_names_from_disks_are_parts_of_paths(name: str) -> None:
    made = safe_name(name)
    assert made and "/" not in made and "\0" not in made and made not in (".", "..")
    os.fsencode(made)


@given(some.lists(some.tuples(some.integers(1, 1 << 40), some.integers(1, 1 << 20))))
def test_runs_of_ntfs_come_back(runs: list[tuple[int, int]]) -> None:
    written, last = b"", 0
    for place, count in runs:
        sizes = [-(-value.bit_length() // 8) or 1 for value in (count, 2 * abs(place - last))]
        written += bytes([sizes[1] << 4 | sizes[0]]) + count.to_bytes(sizes[0], "little")
        written += (place - last).to_bytes(sizes[1], "little", signed=True)
        last = place
    assert attributes.parse_runs(written + b"\0") == runs
    assert attributes.parse_runs(b"\x01\x05\0") == [(HOLE, 5)]


@given(some.binary(max_size=400))
def test_readers_of_small_structures_only_say_malformed(data: bytes) -> None:
    for read in (
        lambda: attributes.parse_runs(data),
        lambda: list(attributes.attributes(data.ljust(1024, b"\0"))),
        lambda: packed.unpack(data, 65_536),
        lambda: list(directory.entries(data)),
        lambda: list(inodes.names(data, 1_000, typed=True)),
        lambda: (
            inodes.places(
                inodes.parse(data.ljust(128, b"\0")), 1024, lambda number: data.ljust(1024, b"\1"), blocks=10_000
            )
            if len(data) < 60
            else None
        ),
        lambda: _parsed(data.decode("latin-1")),
    ):
        try:
            read()
        except Malformed:
            continue
        except struct.error as error:
            raise AssertionError(error) from error


@given(some.lists(some.booleans(), min_size=1, max_size=300), some.integers(0, 320), some.integers(1, 320))
def test_a_map_of_clusters_tells_what_is_free(used: list[bool], first: int, count: int) -> None:
    import numpy as np

    held = ClusterMap.of(np.array(used, bool))
    assert held.used(first, count).tolist() == [
        used[at] if at < len(used) else True for at in range(first, first + count)
    ]
    assert held.free() == used.count(False)
    free = [at for at in range(first, len(used)) if not used[at]][:count]
    assert [at for start, length in held.some_free(first, count) for at in range(start, start + length)] == free


@given(
    some.lists(some.tuples(some.integers(0, 500), some.integers(1, 40)), max_size=20),
    some.integers(0, 500),
    some.integers(1, 60),
)
def test_ranges_know_what_is_left(takes: list[tuple[int, int]], at: int, length: int) -> None:
    left, model = Ranges([(0, 540)]), [True] * 540
    for start, count in takes:
        if all(model[start : start + count]) and start + count <= 540:
            left.take(start, count)
            model[start : start + count] = [False] * count
    assert left.total() == sum(model)
    assert left.within([(at, length)]) == sum(model[at : at + length])


@pytest.mark.parametrize(
    "record",
    [
        b"".join((bytes(446), struct.pack("<8BII", 0, 0, 0, 0, 5, 0, 0, 0, 1, 100), bytes(48), b"\x55\xaa")),
        b"".join((bytes(446), struct.pack("<8BII", 0, 0, 0, 0, 7, 0, 0, 0, 1, 0xFFFFFFFF) * 4, b"\x55\xaa")),
    ],
)
def test_tables_that_lie_end_in_an_answer(tmp_path: Path, record: bytes) -> None:
    """An extended partition that names itself, and four that overlap and lead out of the disk."""
    path = tmp_path / "a.img"
    path.write_bytes((record * 200)[: 64 << 10] + bytes(64 << 10))
    found = layout_of(Window(raw.RawDisk(str(path)), 0, 128 << 10))
    assert len(found.partitions) <= 130


def test_a_target_on_the_searched_disk_is_refused(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from rustfern.operations.targets import outside_searched
    from rustfern.output import inside

    here = next(mount for mount in reversed(inside.mounts()) if inside.below(str(tmp_path), mount.at))
    monkeypatch.setattr(inside, "device_numbers", lambda device: {here.device} if device == "/dev/sdz" else set())
    with pytest.raises(WrongUsage, match="inside what was searched"):
        outside_searched(str(tmp_path / "to"), ["/dev/sdz"])
