#!/usr/bin/env python3
"""Put the demo customer's disk together from the captured homes in tests/data/homes, as data of the package.

    tools/pack_demo.py        writes disk.tar.gz, stick.img.gz and damaged.tar.gz to src/rustfern/demo/data (needs mkfs.fat and mtools)

Marlow Quay Boatyard: one Windows machine and two Linux machines, five people's homes. Times are those of the captures; the
same input gives the same bytes.
"""

from __future__ import annotations

import functools
import gzip
import io
import os
import re
import subprocess
import tarfile
import tempfile
import zipfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

HERE = Path(__file__).resolve().parent.parent
HOMES = HERE / "tests" / "data" / "homes"
TARGET = HERE / "src" / "rustfern" / "demo" / "data" / "disk.tar.gz"

# (captured home, machine on the demo disk, what is left out)
PARTS = (
    ("win-text-powercut-cfb", "office-pc", r"~WRA0002|Letter to the crane firm\.asd"),
    ("win-power-cut-zeros", "office-pc", r"/Temp/|/Recent/"),
    ("win-sheet-overwritten", "office-pc", r"/Temp/|Offcuts|CAFE2024"),
    ("win-text-never-saved", "office-pc", r"Document2|Presentation1|Book1"),
    ("office-writer-odt-crash", "slipway-pc2", r"Old/notes"),
    ("gedit-overwritten", "slipway-pc2", r"quote old"),
    ("trash-home", "slipway-pc2", r"berth list\.md~|oak|report|bergabe|slipway-morning|gone for good"),
    ("office-createbackup-overwritten", "slipway-pc2", r"Old/notes"),
    ("office-calc-xlsx-crash", "loft-laptop", r"Old/notes"),
)


def rewritten(odt: bytes, words: str, when: str) -> bytes:
    """A captured ODF text with one more paragraph, dated by its own clock; the rest of its bytes as they are."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(odt)) as source, zipfile.ZipFile(buffer, "w") as target:
        for item in source.infolist():
            data = source.read(item)
            if item.filename == "content.xml":
                data = data.replace(b"</office:text>", b"<text:p>" + words.encode() + b"</text:p></office:text>")
            elif item.filename == "meta.xml":
                data = re.sub(rb"<dc:date>[^<]*", b"<dc:date>" + when.encode(), data)
            target.writestr(item, data)
    return buffer.getvalue()


def went_two_ways(members: dict[str, tuple[tarfile.TarInfo, bytes]]) -> None:
    """Ines went on in the saved file after a crash, without taking over what the autosave holds."""
    home = "slipway-pc2/home/ines"
    base = members[f"{home}/Documents/Yard/tide-notes.odt"][1]
    versions = (
        (
            f"{home}/Documents/Yard/launch-order.odt",
            "After Whimbrel: the cradle goes to the west slip for Merganser.",
            "2026-11-22T17:20:00",
        ),
        (
            f"{home}/.config/libreoffice/4/user/backup/launch-order.odt_0.odt",
            "Whimbrel launches first on Thursday, Joss Tarrant on the warps, fenders doubled on the north wall.",
            "2026-11-22T15:05:00",
        ),
    )
    for name, words, when in versions:
        info = tarfile.TarInfo(name)
        info.mtime = int(datetime.fromisoformat(f"{when}+00:00").timestamp())
        members[name] = (info, rewritten(base, words, when))


def machines(members: dict[str, tuple[tarfile.TarInfo, bytes]]) -> None:
    """What each machine calls itself, and its zone; the Windows one has a moved folder on a stick that is not there."""
    facts = {
        "slipway-pc2/etc/hostname": b"slipway-pc2\n",
        "slipway-pc2/etc/timezone": b"Europe/London\n",
        "loft-laptop/etc/hostname": b"loft-laptop\n",
        "office-pc/Users/plund/Documents/settings before the repair.reg": (
            HERE / "tests/data/moved-folder.reg"
        ).read_bytes(),
    }
    for name, data in facts.items():
        info = tarfile.TarInfo(name)
        info.mtime = int(datetime.fromisoformat("2026-11-20T09:00:00+00:00").timestamp())
        members[name] = (info, data)


STICK = HERE / "src" / "rustfern" / "demo" / "data" / "stick.img.gz"
SAVED = datetime.fromisoformat("2026-11-16T08:00:00+00:00").timestamp()
ON_THE_STICK = (
    ("Survey Curlew.docx", "packages", "survey-office.docx"), ("Jobs 2025/Timber order, larch.ods", "packages", "timber-odfpy.ods"),
    ("Jobs 2025/Plan of the slip.pdf", "media", "plan.pdf"), ("Berths/Plan of the basin.png", "media", "plan.png"),
    ("Photo of the stem.jpg", "media", "plan.jpg"), ("Dues of the winter berths.xls", "office", "dues.xls"),
    ("Tide notes.fodt", "office", "tide-notes.fodt"), ("Launch order for the talk.odp", "office", "launch.odp"),
)  # fmt: skip
"""Files of the stick, in the order in which they were saved, a few hours apart: name, and where its bytes are from."""


def stick() -> bytes:
    """The image of Petra's stick: real tools of FAT wrote and deleted on it; the photo lost its place to a later file."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        image = folder / "stick.img"
        run = functools.partial(subprocess.run, check=True, capture_output=True)
        with image.open("wb") as out:
            out.truncate(8 << 20)
        run(["mkfs.fat", "--invariant", "-F", "16", "-s", "2", "-n", "MQ STICK", image])

        def tool(command: str, *words: object, when: float) -> None:
            env = {**os.environ, "MTOOLS_SKIP_CHECK": "1", "TZ": "UTC", "SOURCE_DATE_EPOCH": str(int(when))}
            run([command, "-i", image, *map(str, words)], env=env)

        def put(path: str, data: bytes, when: float) -> None:
            file = folder / "file"
            file.write_bytes(data)
            os.utime(file, (when, when))
            tool("mcopy", "-m", file, f"::/{path}", when=when)

        tool("mmd", "::/Jobs 2025", "::/Berths", when=SAVED - 3600)
        for number, (path, archive, member) in enumerate(ON_THE_STICK):
            with tarfile.open(HERE / "tests" / "data" / f"{archive}.tar.xz") as packed:
                stream = next(packed.extractfile(each) for each in packed if each.name.rpartition("/")[2] == member)
                assert stream is not None
                put(path, stream.read(), SAVED + number * 7200)
        later = SAVED + 5 * 86400
        tool("mdel", "::/Photo of the stem.jpg", when=later)
        put("Berths/Fender order.txt", b"Six fenders for Merganser, two for the crane, on account.\n" * 20, later)
        tool("mdel", "::/Dues of the winter berths.xls", "::/Tide notes.fodt", when=later)
        tool("mdeltree", "::/Jobs 2025", when=later)
        return image.read_bytes()


FORMATTED = HERE / "src" / "rustfern" / "demo" / "data" / "formatted.img.gz"
ON_THE_CARD = (
    ("Survey Merganser.docx", "documents", "memo-utf16xml.docx"), ("Launch plan.xlsx", "packages", "timber-streamed.xlsx"), ("Old list.txt", "packages", "notes.txt"),
    ("Stem, port side.jpg", "media", "plan.jpg"), ("Basin.png", "media", "plan.png"), ("Slip.pdf", "media", "plan.pdf"), ("Slip at low tide.mp4", "media", "slip-front.mp4"),
    ("Talk at the club.odp", "office", "launch.odp"), ("Radio call.mp3", "media", "radio.mp3"), ("Dues.xls", "office", "dues.xls"), ("Tide notes.fodt", "office", "tide-notes.fodt"),
)  # fmt: skip
"""Files of the card, in the order in which they were saved: name, and where its bytes are from."""


def member_bytes(archive: str, member: str) -> bytes:
    """A file of one of the archives of the tests."""
    with tarfile.open(HERE / "tests" / "data" / f"{archive}.tar.xz") as packed:
        stream = next(packed.extractfile(each) for each in packed if each.name.rpartition("/")[2] == member)
        assert stream is not None
        return stream.read()


def formatted() -> bytes:
    """The image of Tobias' card: real tools wrote on it, and made a new file system over it; one text lies in two pieces around another file."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        image = folder / "card.img"
        run = functools.partial(subprocess.run, check=True, capture_output=True)
        env = {**os.environ, "MTOOLS_SKIP_CHECK": "1", "TZ": "UTC", "SOURCE_DATE_EPOCH": str(int(SAVED))}
        with image.open("wb") as out:
            out.truncate(6 << 20)
        run(["mkfs.fat", "--invariant", "-F", "16", "-s", "2", "-n", "SURVEYS", image])

        def put(path: str, data: bytes) -> None:
            file = folder / "file"
            file.write_bytes(data)
            os.utime(file, (SAVED, SAVED))
            run(["mcopy", "-i", image, "-m", file, f"::/{path}"], env=env)

        put("Free soon.txt", b"Fenders are counted on Monday.\n" * 400)
        for path, archive, member in ON_THE_CARD[1:]:
            put(path, member_bytes(archive, member))
        run(["mdel", "-i", image, "::/Free soon.txt"], env=env)
        path, archive, member = ON_THE_CARD[0]
        put(path, member_bytes(archive, member))
        run(["mkfs.fat", "--invariant", "-F", "16", "-s", "2", "-n", "NEW CARD", image])
        return image.read_bytes()


DAMAGED = HERE / "src" / "rustfern" / "demo" / "data" / "damaged.tar.gz"


def cut(share: float) -> Callable[[bytes], bytes]:
    """A file of which only the beginning was written."""
    return lambda data: data[: int(len(data) * share)]


def hole(share: float, length: int) -> Callable[[bytes], bytes]:
    """A file a part of which is zeros."""

    def damage(data: bytes) -> bytes:
        at = int(len(data) * share)
        return data[:at] + bytes(length) + data[at + length :]

    return damage


def never_finished(data: bytes) -> bytes:
    """A recording whose program died: neither its tables nor the size of its data were written."""
    moov = data.index(b"moov") - 4
    mdat = data.index(b"mdat") - 4
    return data[:mdat] + bytes(4) + data[mdat + 4 : moov]


THAT_NOBODY_CAN_OPEN = (
    ("Slipway memo.docx", "documents", "memo-0pages.docx", hole(0.15, 700)),
    ("Launch day.pptx", "packages", "launch-python.pptx", cut(0.85)),
    ("Timber stock.xls", "documents", "tools-longtail.xls", cut(0.6)),
    ("Mooring plan.odg", "packages", "mooring-office.odg", lambda data: data.replace(b"\n", b"\r\n")),
    ("Hull survey.pdf", "media", "survey-gs.pdf", cut(0.97)),
    ("Orders.sqlite", "packages", "orders.sqlite", cut(0.7)),
    ("Yard log.txt", "packages", "notes-utf16.txt", hole(0.4, 640)),
    ("Launch of Petrel.mp4", "recordings", "launch.mp4", never_finished),
    ("Launch of Heron.mp4", "recordings", "other-launch.mp4", lambda data: data),
    ("Mooring plan.jpg", "media", "plan-444.jpg", hole(0.5, 1200)),
)
"""Documents of real programs that were damaged: name, where the bytes are from, what became of them."""


def damaged() -> bytes:
    """An archive of documents that nobody can open."""
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w", format=tarfile.PAX_FORMAT) as target:
        for number, (name, archive, member, damage) in enumerate(THAT_NOBODY_CAN_OPEN):
            with tarfile.open(HERE / "tests" / "data" / f"{archive}.tar.xz") as packed:
                stream = next(packed.extractfile(each) for each in packed if each.name.rpartition("/")[2] == member)
                assert stream is not None
                data = damage(stream.read())
            info = tarfile.TarInfo(name)
            info.size, info.mtime, info.mode = len(data), int(SAVED) + number * 3600, 0o644
            target.addfile(info, io.BytesIO(data))
    return buffer.getvalue()


def main() -> None:
    members: dict[str, tuple[tarfile.TarInfo, bytes]] = {}
    for case, machine, left_out in PARTS:
        with tarfile.open(HOMES / f"{case}.tar.gz") as source:
            for member in source.getmembers():
                if not member.isfile() or re.search(left_out + "|sessionstore", member.name):
                    continue
                stream = source.extractfile(member)
                assert stream is not None
                member.name = f"{machine}/{member.name}"
                member.mode = 0o644
                members.setdefault(member.name, (member, stream.read()))
    went_two_ways(members)
    machines(members)
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w", format=tarfile.PAX_FORMAT) as target:
        for name in sorted(members):
            info, data = members[name]
            fixed = tarfile.TarInfo(name)
            fixed.size, fixed.mtime, fixed.mode = len(data), int(info.mtime), 0o644
            target.addfile(fixed, io.BytesIO(data))
    TARGET.parent.mkdir(parents=True, exist_ok=True)
    TARGET.write_bytes(gzip.compress(buffer.getvalue(), 9, mtime=0))
    print(f"{TARGET.relative_to(HERE)}: {len(members)} files, {TARGET.stat().st_size} bytes")
    STICK.write_bytes(gzip.compress(stick(), 9, mtime=0))
    print(f"{STICK.relative_to(HERE)}: {STICK.stat().st_size} bytes")
    FORMATTED.write_bytes(gzip.compress(formatted(), 9, mtime=0))
    print(f"{FORMATTED.relative_to(HERE)}: {FORMATTED.stat().st_size} bytes")
    DAMAGED.write_bytes(gzip.compress(damaged(), 9, mtime=0))
    print(f"{DAMAGED.relative_to(HERE)}: {DAMAGED.stat().st_size} bytes")


main()
