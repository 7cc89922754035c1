"""Raw search: where documents end, documents in pieces, what is called whole, and what a search of hours needs."""

from __future__ import annotations

import gc
import html
import io
import json
import os
import random
import re
import signal
import subprocess
import tarfile
import time
import zipfile
import zlib
from base64 import b64encode
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from hashlib import sha256 as sha
from pathlib import Path
from typing import Any

import pytest
from conftest import BUILT, DATA, Run, docx
from hypothesis import given
from hypothesis import strategies as st
from raw_disks import CLUSTER, Layout, sha256, whole_documents

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Hints
from rustfern.engine.interface import EngineLost
from rustfern.engine.local import LocalEngine
from rustfern.formats.extents.proof import strange_part
from rustfern.formats.extents.registry import BEGINNINGS, measured, measurer
from rustfern.formats.interface import Limits
from rustfern.formats.paged_bytes import Paged
from rustfern.matching.raw_finds import is_called
from rustfern.search.raw import places, turns
from rustfern.search.raw.examine import Looker
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free, Onward
from rustfern.search.raw.hunt import Hunt, grain_of
from rustfern.search.raw.sweep import sectors_in, sweep
from rustfern.sources.disk_health import Health
from rustfern.sources.disks.containers.raw import RawDisk
from rustfern.sources.disks.interface import Extent
from rustfern.sources.disks.unclaimed import SECTOR, Unclaimed, unclaimed
from rustfern.sources.registry import Sources
from rustfern.traces import zip_member

Rustfern = Callable[..., Run]
ENDS_WITH_ZEROS = {"tools-longtail.xls", "scan-pages.tiff", "names-no-text.sqlite"}
"""Behind their ends stand zeros, or bytes that nothing in them speaks of."""
NO_RAW_FORM = {"mooring-binary-r12.dxf"}


def paged(data: bytes) -> Paged:
    return Paged(io.BytesIO(data), len(data))


def copies_of(answer: Any) -> list[Any]:
    return [copy for document in answer["documents"] for copy in document["copies"]]


class Memory:
    """A disk in memory; what lies at `bad` cannot be read."""

    sector = SECTOR

    def __init__(self, data: bytes, bad: range = range(0)) -> None:
        self.data, self.size, self.bad = data, len(data), bad

    def read_at(self, offset: int, length: int) -> bytes:
        if self.bad and offset < self.bad.stop and offset + length > self.bad.start:
            raise SourceError("these bytes of the disk could not be read", "disk")
        return self.data[offset : offset + length]

    def locate(self, offset: int, length: int) -> list[Extent]:
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        return False


def hunted(data: bytes, bad: range = range(0)) -> Hunt:
    disk = Memory(data, bad)
    hunt = Hunt(disk, Unclaimed(((0, len(data)),)), Limits(), Hints())
    for _ in hunt.run(lambda: False):
        pass
    assert hunt.is_done
    return hunt


# --- where it ends ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("tail", ["zeros", "noise", "code"])
def test_each_whole_document_ends_where_its_structure_says(tail: str) -> None:
    behind = {
        "zeros": bytes(6000),
        "noise": random.Random(3).randbytes(6000),
        "code": BUILT.resolve().read_bytes()[:6000],
    }
    wrong = []
    for name, data in whole_documents().items():
        if name in ENDS_WITH_ZEROS or len(data) < 100:
            continue
        block = data + bytes(-len(data) % SECTOR) + behind[tail]
        found = measured(
            paged(block), block[:SECTOR], is_text=b"\0" not in block[:16] or block[:2] in (b"\xff\xfe", b"\xfe\xff")
        )
        if found is None or not found[1].is_complete or found[1].end != len(data):
            wrong.append((name, len(data), found))
    assert not wrong


@given(st.sampled_from(BEGINNINGS), st.binary(max_size=3000))
def test_no_bytes_break_a_measure(beginning: Any, more: bytes) -> None:
    data = bytes(beginning.at) + beginning.mark + more
    try:
        reach = measurer(beginning.measure)(paged(data))
    except (ValueError, LookupError, ArithmeticError):
        return  # what a caller takes for "none"
    assert reach is None or (reach.proven <= max(reach.end, len(data)) and reach.end >= 0)


@given(st.sampled_from(sorted(whole_documents())), st.integers(0, 1 << 30), st.integers(1, 64))
def test_a_document_that_is_cut_is_never_whole(name: str, place: int, count: int) -> None:
    data = whole_documents()[name][: 1 << 18]
    cut = data[: max(len(data) - 1 - place % max(len(data) // 2, 1), 1)]
    found = measured(paged(cut), cut[:SECTOR])
    if found is not None and found[1].is_complete:
        assert found[1].end <= len(cut)


# --- free space -------------------------------------------------------------------------------------------------------


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(1, 12)), max_size=20), st.integers(0, 70), st.integers(1, 40))
def test_free_space_is_what_was_not_taken(taken: list[tuple[int, int]], start: int, most: int) -> None:
    free, left = Free([(0, 30), (35, 30)]), {*range(30), *range(35, 65)}
    for at, length in taken:
        free.take([(at, length)])
        left -= set(range(at, at + length))
    assert all(free.holds(n) == (n in left) for n in range(70)) and free.total() == len(left)
    onward = [n for at, length in free.onward(start, most) for n in range(at, at + length)]
    assert onward == sorted(n for n in left if n >= start)[:most]
    backward = [n for at, length in free.backward(start, most) for n in range(at, at + length)]
    assert sorted(backward) == sorted((n for n in left if n < start), reverse=True)[:most][::-1]
    data = bytes(range(70))
    stream = io.BufferedReader(Onward(Memory(data), free, start, most))
    assert stream.read() == bytes(onward)
    for at, length in taken:
        free.give([(at, length)])
        left |= set(range(at, at + length))
    assert all(free.holds(n) == (n in left) for n in range(70))


@given(st.integers(0, 40), st.sampled_from(BEGINNINGS), st.integers(0, 1 << 30))
def test_every_beginning_at_a_sector_is_seen(number: int, beginning: Any, seed: int) -> None:
    data = bytearray(random.Random(seed).randbytes(41 * SECTOR))
    at = number * SECTOR + beginning.at
    data[at : at + len(beginning.mark)] = beginning.mark
    found, _ = sectors_in(bytes(data), 0, goes_on=False)
    assert number * SECTOR in [sector[0] for sector in found]


def test_a_text_begins_where_none_went_on() -> None:
    line = b"The hull was surveyed on the slip, and the keel bolts were drawn.\n"
    text = (line * 40)[: 4 * SECTOR - 100]
    data = bytes(SECTOR) + text + bytes(100) + line * 3 + bytes(SECTOR * 2)
    found, _ = sectors_in(data[: len(data) // SECTOR * SECTOR], 0, goes_on=False)
    assert [sector[0] for sector in found] == [SECTOR, 5 * SECTOR]


def test_what_cannot_be_read_is_stepped_over() -> None:
    document = docx("keel and stem " * 400)
    data = bytearray(3 << 20)
    data[CLUSTER : CLUSTER + len(document)] = document
    data[2 << 20 : (2 << 20) + len(document)] = document
    hunt = hunted(bytes(data), range(1 << 20, (1 << 20) + 4096))
    assert [found.offset for found in hunt.documents()] == [CLUSTER, 2 << 20]
    windows = list(sweep(Memory(bytes(data), range(100_000, 100_001)), [(0, len(data))]))
    assert sum(size for _, size, _ in windows) >= len(data) - (64 << 10)


def test_the_clusters_of_an_earlier_file_system_are_told_by_where_documents_begin() -> None:
    assert grain_of([512 + 8192 * n for n in range(12)], 512, 0) == (8192, 512)
    assert grain_of([512 * n * n + 1024 for n in range(12)], 4096, 0)[0] in (512, 1024, 4096)


# --- documents in pieces ----------------------------------------------------------------------------------------------

PIECES = {
    "memo-utf16xml.docx": 3, "timber-streamed.xlsx": 1, "launch-office.odp": 2, "survey.doc": 2, "timber-office.xls": 2, "survey-gs.pdf": 2, "survey.pdf": 1,
    "tone-s16.flac": 1, "mooring-office.odg": 2, "notes-office.docx": 1,
}  # fmt: skip


@pytest.mark.parametrize("between", ["noise", "text", "document"])
def test_pieces_are_put_together_where_a_format_proves_it(between: str) -> None:
    """Around noise, around a text and around another document: each is the same byte for byte."""
    layout, chance = Layout(), random.Random(7)
    fillers = {"noise": chance.randbytes(5 * CLUSTER), "text": b"the tide table is pinned to the door\n" * 700}
    names = [name for name in PIECES if name in whole_documents()]
    assert len(names) >= 8
    for number, name in enumerate(names):
        data = whole_documents()[name]
        filler = fillers.get(between) or docx(f"document number {number} between the pieces " * 60)
        layout.split(name, data, PIECES[name], filler)
    hunt = hunted(bytes(layout.data))
    have = {found.content.sha256: found for found in hunt.documents()}
    missed = [name for name in names if sha256(whole_documents()[name]) not in have]
    assert len(missed) <= len(names) // 5, missed
    for name in set(names) - set(missed):
        found = have[sha256(whole_documents()[name])]
        assert [at for at, _ in found.extents] == [at for at, _ in layout.places[name]]


def test_pieces_that_were_not_tried_are_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    layout = Layout(2)
    layout.split("timber.docx", whole_documents()["survey.pdf"] * 2, 1, random.Random(3).randbytes(9000))
    layout.split("plan.png", whole_documents()["plan.png"], 1, random.Random(4).randbytes(9000))
    assert hunted(bytes(layout.data)).moment.not_joined == 0
    monkeypatch.setattr("rustfern.search.raw.hunt._JOINING", 0.0)
    hunt = hunted(bytes(layout.data))
    assert hunt.moment.not_joined == len([each for each in hunt.finds if each.missing]) > 0


def test_a_film_in_pieces_comes_back_by_its_tables() -> None:
    """Exactly, where its tables show between which pictures it breaks; not called whole, as they show no more."""
    name, back = "slip.mov", 0
    data = whole_documents()[name]
    clusters = len(data) // CLUSTER
    for cut in range(1, clusters, max(clusters // 6, 1)):
        layout = Layout(cut)
        layout.split(name, data, cut, layout.chance.randbytes(3 * CLUSTER))
        found = [each for each in hunted(bytes(layout.data)).documents() if each.content.sha256 == sha256(data)]
        back += len(found)
        assert all(each.content.state == "damaged" for each in found)
    assert back >= 1


def test_what_has_lost_its_beginning_is_found_by_its_end(tmp_path: Path, rustfern: Rustfern) -> None:
    """With --thorough: the part that is there, damaged, and repair makes a document of it."""
    layout, case = Layout(), tmp_path / "t.case"
    for name in ("memo-utf16xml.docx", "survey.pdf"):
        data = bytearray(whole_documents()[name])
        data[:CLUSTER] = layout.chance.randbytes(CLUSTER)
        layout.put(name, bytes(data))
    image = layout.write(tmp_path / "card.img")
    assert not copies_of(rustfern("scan", image, "--raw", "--json").json)
    found = copies_of(rustfern("scan", image, "--raw", "--thorough", "--json", "--case", case).json)
    assert {(copy["format"], copy["state"]) for copy in found} == {("docx", "damaged"), ("pdf", "damaged")}
    assert all("its beginning is gone" in copy["reason"] for copy in found)
    (document,) = [copy for copy in found if copy["format"] == "docx"]
    repaired = rustfern("repair", document["id"], "--to", tmp_path / "out", "--case", case, "--json").json["repaired"]
    assert repaired and repaired[0]["format"] == "docx"


def test_a_recording_in_pieces_is_not_called_whole() -> None:
    """Nothing in it proves that its pieces belong together: its bytes are had, and what is not known is said."""
    layout = Layout()
    data = whole_documents()["radio.wav"]
    layout.split("radio.wav", data, 5, docx("a list of timber " * 300))
    (found,) = [each for each in hunted(bytes(layout.data)).documents() if each.content.format == "wav"]
    assert found.content.state == "damaged" and "2 pieces" in found.missing and found.content.sha256 == sha256(data)


def test_sound_with_something_else_in_the_middle_is_told() -> None:
    tone = b"".join(int(9000 * ((n % 60) - 30) / 30).to_bytes(2, "little", signed=True) for n in range(40_000))
    head = (
        b"RIFF"
        + (36 + len(tone)).to_bytes(4, "little")
        + b"WAVEfmt \x10\0\0\0\1\0\1\0\x40\x1f\0\0\x80\x3e\0\0\2\0\x10\0data"
        + len(tone).to_bytes(4, "little")
    )
    whole = head + tone
    assert strange_part("media.riff", paged(whole)) is None
    hurt = bytearray(whole)
    hurt[40_960:49_152] = random.Random(1).randbytes(8192)
    assert strange_part("media.riff", paged(bytes(hurt))) == 40_960


# --- the built program ------------------------------------------------------------------------------------------------


def laid(folder: Path) -> tuple[Path, Layout]:
    layout = Layout()
    for name in (
        "memo-noprops.docx",
        "timber-office.xls",
        "plan.jpg",
        "plan.png",
        "radio.mp3",
        "survey.pdf",
        "launch-office.odp",
        "yard-mx9.7z",
    ):
        if name in whole_documents():
            layout.put(name, whole_documents()[name])
    layout.noise(3)
    layout.put("Berths.txt", b"BERTHS OF THE WINTER\nMerganser lies on the north wall, Wagtail beside her.\n" * 40)
    for beginning in BEGINNINGS:
        layout.data += (bytes(beginning.at) + beginning.mark + layout.chance.randbytes(SECTOR))[:SECTOR]
    layout.data += bytes(-len(layout.data) % CLUSTER)
    return layout.write(folder / "formatted.img"), layout


def test_everything_comes_back_and_nothing_is_invented(tmp_path: Path, rustfern: Rustfern) -> None:
    image, layout = laid(tmp_path)
    before = sha(image.read_bytes()).hexdigest(), image.stat().st_mtime_ns
    case = tmp_path / "a.case"
    run = rustfern("scan", image, "--raw", "--json", "--case", case)
    found = {copy["extents"][0][0]: copy for copy in copies_of(run.json)}
    assert sorted(found) == sorted(places[0][0] for places in layout.places.values())
    assert {copy["kind"] for copy in found.values()} == {"raw"} and all(copy["deleted"] for copy in found.values())
    for name, lies in layout.places.items():
        copy = found[lies[0][0]]
        assert copy["path"].endswith(f"formatted.img/p1/@{lies[0][0]}") and copy["state"] == "intact", name
        if name in whole_documents():
            assert copy["sha256"] == sha256(whole_documents()[name])
    (volume,) = run.json["disks"][0]["volumes"]
    assert volume["searched_raw"] == image.stat().st_size
    target = tmp_path / "back"
    back = rustfern("restore", "all", "--to", target, "--case", case, "--keep-layout", "--json")
    assert back.status == 0 and len(back.json["restored"]) == len(layout.places)
    assert {path.parent.name for path in target.rglob("*.*") if path.parent != target} >= {
        "Texts",
        "Pictures",
        "Sheets",
        "Pages",
        "Sound",
    }
    for each in back.json["restored"]:
        assert sha(Path(each["to"]).read_bytes()).hexdigest() == each["sha256"]
    assert (sha(image.read_bytes()).hexdigest(), image.stat().st_mtime_ns) == before


def test_a_place_of_the_disk_is_a_path(tmp_path: Path, rustfern: Rustfern) -> None:
    image, layout = laid(tmp_path)
    at = layout.places["plan.png"][0][0]
    (told,) = rustfern("check", f"{image}/p1/@{at}", "--json").json["files"]
    assert (told["format"], told["state"], told["size"]) == ("png", "intact", len(whole_documents()["plan.png"]))
    assert rustfern("check", f"{image}/p1/@100", "--json").status == 1


def test_versions_of_one_document_are_one_document(tmp_path: Path, rustfern: Rustfern) -> None:
    """Versions are matched by what they hold; what begins otherwise is another document."""
    layout, words = Layout(), "the garboard is soft and the scarf of the stem opens " * 30
    for number, more in enumerate(
        ("", "and the keel bolts were drawn on Monday " * 4, "and the mast was stepped " * 9)
    ):
        layout.put(f"version {number}", docx(f"Survey of Merganser\n{words}{more}"))
    layout.put("other", docx("Order of larch\n" + "planks of larch, an inch thick, for the north slip " * 20))
    answer = rustfern("scan", layout.write(tmp_path / "card.img"), "--raw", "--json").json
    assert sorted(len(document["copies"]) for document in answer["documents"]) == [1, 3]


@pytest.mark.parametrize(
    ("title", "path", "format_name", "called"),
    [
        ("Hull survey of Merganser", "/home/ines/Hull survey of Merganser.docx", "docx", True),
        ("Hull survey of Merganser", "/home/ines/Hull survey of Merganser.odt", "docx", True),
        ("Hull survey of Merganser", "/home/ines/Hull survey of Wagtail.docx", "docx", False),
        ("Hull survey", "/home/ines/Hull survey of Merganser.docx", "docx", False),
        ("Hull survey of Merganser", "/home/ines/Hull survey of Merganser.jpg", "docx", False),
    ],
)
def test_a_title_is_the_name_of_a_document_word_by_word(title: str, path: str, format_name: str, called: bool) -> None:
    assert is_called(title, path, format_name) is called


def test_a_find_is_a_version_of_the_document_that_lives(tmp_path: Path, rustfern: Rustfern) -> None:
    """On a volume with living files: the later version in free space is the best copy; locks and what programs deleted are not listed."""
    with tarfile.open(DATA / "disks.tar.xz") as archive:
        stream = archive.extractfile("fat16.img")
        assert stream is not None
        image = bytearray(stream.read())
    path = tmp_path / "stick.img"
    path.write_bytes(image)
    source = Sources().open(str(path))
    living = source.open(source.entry(f"{path}/p1/Yard/Launch list.docx")).read()
    later = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(living)) as old, zipfile.ZipFile(later, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            more = b"<w:p><w:r><w:t>Wagtail goes in first on the spring tide, then Merganser, with six fenders.</w:t></w:r></w:p></w:body>"
            new.writestr(name, old.read(name).replace(b"</w:body>", more))
    at = len(image) - (1 << 20)
    image[at : at + len(later.getvalue())] = later.getvalue()
    path.write_bytes(image)
    answer = rustfern("scan", path, "--raw", "--json").json
    (document,) = [each for each in answer["documents"] if each["name"] == "Launch list.docx"]
    best = next(copy for copy in document["copies"] if copy["id"] == document["best"])
    assert (document["situation"], best["kind"], best["extents"]) == (
        "overwritten",
        "raw",
        [[at, len(later.getvalue())]],
    )
    assert [copy["kind"] for copy in copies_of(answer)].count("raw") == 1


def test_a_stopped_search_goes_on_and_finds_the_same(tmp_path: Path, rustfern: Rustfern) -> None:
    layout, case = Layout(), tmp_path / "stopped.case"
    layout.split("in pieces", whole_documents()["memo-utf16xml.docx"], 3, layout.chance.randbytes(2 * CLUSTER))
    for name in ("plan.jpg", "survey.pdf", "timber-office.xls"):
        layout.put(name, whole_documents()[name])
    layout.put("cut", whole_documents()["launch-office.odp"][: 2 * CLUSTER])
    image = layout.write(tmp_path / "card.img")
    whole = rustfern("scan", image, "--raw", "--json", "--case", tmp_path / "once.case").json
    found: list[Any] = [{"notices": [{"kind": "raw-not-done"}]}]
    while any(notice["kind"] == "raw-not-done" for notice in found[-1]["notices"]):
        found.append(rustfern("scan", image, "--raw", "--json", "--case", case, "--budget", "0s").json)
        assert len(found) < 60
    told = [{(c["path"], c["sha256"], c["state"]) for c in copies_of(answer)} for answer in (whole, found[-1])]
    assert told[0] == told[1] and len(told[0]) == len(layout.places) and len(found) > 5
    assert len(copies_of(found[1])) < len(told[0])
    image.write_bytes(bytes(len(layout.data)))
    assert not copies_of(rustfern("scan", image, "--raw", "--json", "--case", case).json)


def test_an_interrupt_keeps_what_was_found(tmp_path: Path, rustfern: Rustfern) -> None:
    layout = Layout()
    document = whole_documents()["memo-noprops.docx"]
    layout.put("first", document)
    for _ in range(600):
        layout.put("other", docx(" ".join(str(layout.chance.random()) for _ in range(400))))
    image, case = layout.write(tmp_path / "large.img"), tmp_path / "b.case"
    env = {**os.environ, "NO_COLOR": "1"}
    process = subprocess.Popen(
        [BUILT, "scan", image, "--raw", "--case", case], env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    time.sleep(2.0)
    process.send_signal(signal.SIGINT)
    process.communicate(timeout=60)
    assert process.returncode in (0, 130)
    answer = rustfern("scan", image, "--raw", "--json", "--case", case).json
    assert sha256(document) in {copy["sha256"] for copy in copies_of(answer)} and len(copies_of(answer)) == 601


def test_words_are_found_in_bytes_of_no_document(tmp_path: Path, rustfern: Rustfern) -> None:
    layout = Layout()
    layout.noise(2)
    at = len(layout.data) + 700
    layout.data += (
        layout.chance.randbytes(700)
        + b"\0owner of the Kittiwake owes two hundred for the tarpaulin\0"
        + layout.chance.randbytes(9000)
    )
    wide = "the tarpaulin of the Kittiwake is in the loft".encode("utf-16-le")
    layout.data += b"\0\0" + bytes(-len(layout.data) % 2) + wide + bytes(-(len(layout.data) + len(wide)) % CLUSTER)
    layout.data += bytes(-len(layout.data) % CLUSTER)
    image = layout.write(tmp_path / "swap.img")
    run = rustfern("scan", image, "--raw", "--json", "--words", "kittiwake tarpaulin", "--case", tmp_path / "w.case")
    said = [hit["sentence"] for hit in run.json["hits"]]
    assert any("owes two hundred" in each for each in said) and len(copies_of(run.json)) == 2
    assert any(abs(copy["extents"][0][0] - at) < 64 for copy in copies_of(run.json))
    assert all(copy["state"] == "damaged" for copy in copies_of(run.json))


def test_words_are_found_in_a_packed_member_that_is_left(tmp_path: Path, rustfern: Rustfern) -> None:
    """Of a package only one member is left, anywhere in a sector: its text is a find, and is restored as text."""
    document, layout, case = whole_documents()["memo-noprops.docx"], Layout(), tmp_path / "p.case"
    with zipfile.ZipFile(io.BytesIO(document)) as package:
        member = package.getinfo("word/document.xml")
    layout.noise(1)
    layout.data += (
        layout.chance.randbytes(701) + document[member.header_offset : member.header_offset + member.compress_size + 60]
    )
    layout.data += layout.chance.randbytes(CLUSTER - len(layout.data) % CLUSTER)
    run = rustfern(
        "scan", layout.write(tmp_path / "card.img"), "--raw", "--json", "--words", "lofting slipway", "--case", case
    )
    (hit,) = run.json["hits"]
    assert "lofting floor" in hit["sentence"] and copies_of(run.json)[0]["state"] == "damaged"
    (back,) = rustfern("restore", hit["id"], "--to", tmp_path / "back", "--case", case, "--json").json["restored"]
    assert Path(back["to"]).suffix == ".txt" and "lofting floor" in Path(back["to"]).read_text("utf-8")


@given(st.binary(max_size=4000), st.binary(max_size=400))
def test_a_member_gives_its_text_or_is_refused(text: bytes, behind: bytes) -> None:
    packer = zlib.compressobj(9, zlib.DEFLATED, -15)
    packed = packer.compress(text) + packer.flush()
    head = b"PK\x03\x04\x14\0\0\0\x08\0" + bytes(16) + b"\x01\0\0\0a"
    told, length = zip_member.read(head + packed + behind)
    assert length == len(head) + len(packed)
    assert text.lstrip(b"\xef\xbb\xbf \r\n\t")[:1] == b"<" or told == text.decode("utf-8", "ignore")
    try:
        zip_member.read(behind)
    except Malformed:
        assert behind[:4] != zip_member.MARK or behind[8:10] != b"\x08\0" or len(behind) < 400


def test_editors_swap_files_give_their_texts(tmp_path: Path, rustfern: Rustfern) -> None:
    layout, expected, case = Layout(), set[str](), tmp_path / "s.case"
    with tarfile.open(DATA / "swaps.tar.xz") as archive:
        for member in archive:
            stream = archive.extractfile(member)
            assert stream is not None
            if member.name.endswith(".swp"):
                layout.put(member.name, stream.read())
            elif member.name.endswith("expected.txt"):
                expected.add(sha256(stream.read()))
    found = copies_of(rustfern("scan", layout.write(tmp_path / "card.img"), "--raw", "--json", "--case", case).json)
    swaps = [copy for copy in found if copy["kind"] == "swap"]
    whole = [copy for copy in swaps if copy["state"] == "intact"]
    assert len(swaps) == len(layout.places) and len(whole) >= 4
    back = rustfern(
        "restore", *[copy["id"] for copy in whole], "--to", tmp_path / "back", "--case", case, "--json"
    ).json
    assert {sha256(Path(each["to"]).read_bytes()) for each in back["restored"]} <= expected and len(
        back["restored"]
    ) == len(whole)


def test_only_asked_for_what_is_encrypted_is_searched(tmp_path: Path, rustfern: Rustfern) -> None:
    """A volume of a kind that is not read is named, and searched with --raw-all."""
    image = bytearray(24 << 20)
    image[1024 + 32 : 1024 + 36] = b"NXSB"
    image[32:36] = b"NXSB"
    data = whole_documents()["plan.png"]
    image[8 << 20 : (8 << 20) + len(data)] = data
    path = tmp_path / "disk.img"
    path.write_bytes(image)
    plain = rustfern("scan", path, "--raw", "--json").json
    assert not copies_of(plain) and [n["kind"] for n in plain["notices"] if n["kind"] == "raw-left-out"]
    assert [copy["format"] for copy in copies_of(rustfern("scan", path, "--raw-all", "--json").json)] == ["png"]


@pytest.mark.parametrize(
    "sector",
    [
        b"",
        b"PK\x03\x04\x14\0\0\0\0\0" + bytes(8) + b"\x10\0\0\0\x10\0\0\0\x05\0\0\0a.txt",
        b"%PDF-1.4\n1 0 obj\n<<>>\nendobj\n",
        b"OggS\0\2",
        b"II*\0\x10\0\0\0",
    ],
)
def test_space_of_one_beginning_ends(sector: bytes, tmp_path: Path, rustfern: Rustfern) -> None:
    image = tmp_path / "disk.img"
    image.write_bytes(bytes(1 << 20) + sector.ljust(SECTOR, b"\0") * 4000)
    assert not copies_of(rustfern("scan", image, "--raw", "--json").json)


def test_bombs_cost_themselves_alone(tmp_path: Path, rustfern: Rustfern) -> None:
    layout, packed = Layout(), io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("zeros", bytes(80 << 20))
    layout.put("bomb.zip", packed.getvalue())
    layout.put("bomb.gz", zlib.compress(bytes(64 << 20), 9, 31))
    layout.put(
        "bomb.svg",
        b'<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "'
        + b"c" * 900
        + b'">'
        + b"".join(b'<!ENTITY b%d "&b;&b;&b;">' % n for n in range(9))
        + b"]><a>&b8;</a>\n",
    )
    layout.put("deep.json", b'{"a":' * 20_000 + b"1" + b"}" * 20_000 + b"\n")
    layout.put("memo", whole_documents()["memo-noprops.docx"])
    answer = rustfern("scan", layout.write(tmp_path / "disk.img"), "--raw", "--json").json
    assert sha256(whole_documents()["memo-noprops.docx"]) in {copy["sha256"] for copy in copies_of(answer)}


def test_what_is_looked_at_first_changes_nothing_that_is_found(tmp_path: Path, rustfern: Rustfern) -> None:
    image, _ = laid(tmp_path)
    told = []
    for number, words in enumerate(
        ((), ("--class", "image"), ("--document", "survey.pdf"), ("--lost-at", "2026-03-12 10:00"))
    ):
        answer = rustfern("scan", image, "--raw", "--json", "--case", tmp_path / f"{number}.case", *words).json
        told.append({(copy["path"], copy["sha256"], copy["state"]) for copy in copies_of(answer)})
    assert all(each == told[0] for each in told) and told[0]


def test_places_about_the_loss_come_first() -> None:
    document, far = whole_documents()["plan.png"], 40 << 20
    data = bytearray(far + (1 << 20))
    data[CLUSTER : CLUSTER + len(document)] = document
    data[far : far + len(document)] = whole_documents()["plan.png"]
    hunt = Hunt(Memory(bytes(data)), Unclaimed(((0, len(data)),)), Limits(), Hints())
    hunt.begin_with([(far - CLUSTER, CLUSTER)])
    assert [found.offset for found in hunt.run(lambda: False) if found is not None] == [far, CLUSTER]


class AtOnce:
    """Answers each piece when it is asked, before anything of what was asked earlier is taken over."""

    workers = 3

    def submit(self, work: Callable[[Any], Any], piece: Any) -> Future[Any]:
        answer: Future[Any] = Future()
        answer.set_result(work(piece))
        return answer

    def map(self, work: Callable[[Any], Any], pieces: Iterable[Any], together: int = 1) -> Iterator[Any]:
        return map(work, pieces)

    def close(self) -> None:
        pass


def test_a_picture_padded_with_fill_bytes_ends_where_it_ends() -> None:
    picture = whole_documents()["plan.jpg"]
    padded = picture[:-2] + b"\xff" * 300_000 + picture[-1:] + bytes(512)
    reach = measurer("pictures.jpeg")(paged(padded))
    assert reach is not None and reach.is_complete and reach.end == len(padded) - 512
    reach = measurer("pictures.jpeg")(paged(picture[:-2] + b"\xff" * 300_000 + bytes(512)))
    assert reach is not None and not reach.is_complete


@pytest.mark.parametrize("seed", [0, 1, 3, 4, 5])
def test_who_looks_ahead_changes_nothing_that_is_found(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    layout, known = Layout(seed), list(whole_documents().items())
    for name, data in layout.chance.sample(known, 30):
        inner = layout.chance.choice(known)[1]
        kind = layout.chance.randrange(4)
        if kind == 0:
            layout.split(name, data, layout.chance.randrange(1, 4), inner)
        elif kind == 1:
            layout.put(name, data[: len(data) // 2] + inner)  # cut by another one, in the middle of a sector
        elif kind == 2:
            layout.put(name, data[:CLUSTER] + bytes(-len(data[:CLUSTER]) % SECTOR) + inner + data)
        else:
            layout.put(name, data)
    for wanted in (Hints(), Hints(doc_class="image")):
        finds = hunts_of(bytes(layout.data), layout.chance.choice([1, 3, 10]), monkeypatch, wanted)
        assert finds[0] == finds[1] and finds[0]


def hunts_of(
    data: bytes, together: int, monkeypatch: pytest.MonkeyPatch, hints: Hints | None = None
) -> list[list[RawFind]]:
    """What is found by one process, and where others look ahead, so many places `together`."""
    disk, whole, told = Memory(data), Unclaimed(((0, len(data)),)), []
    gc.freeze()  # as a process does that looks ahead
    monkeypatch.setattr(places, "_MOST_PLACES", together)
    monkeypatch.setattr(places, "_here", (Looker(disk, Limits(), places.grain_by(whole)), Health()))
    for engine in (None, AtOnce()):
        hunt = Hunt(disk, whole, Limits(), hints or Hints(), engine=engine)
        for _ in hunt.run(lambda: False):
            pass
        told.append(hunt.finds)
    gc.unfreeze()
    return told


def test_what_lies_across_the_end_of_a_find_is_looked_at_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """A picture in whose remark pages begin that end far behind it: who looks ahead takes the pages, and leaves out what lies in them."""
    picture, inner = whole_documents()["plan.png"], whole_documents()["plan.jpg"]
    begin = b"%PDF-1.4\n1 0 obj\n<</Length 0000000000>>\nstream\n"
    remark = b"tEXtRemark\0".ljust(SECTOR - 37, b" ") + begin
    head = picture[:33] + (len(remark) - 4).to_bytes(4, "big") + remark + bytes(4)
    data = head + picture[33:]
    data += bytes(-len(data) % SECTOR) + inner
    begins = data.index(b"%PDF")
    body = len(data) - begins - len(begin)
    data = data.replace(b"0000000000", b"%010d" % body, 1) + b"\nendstream\nendobj\n"
    places_of = []
    for number, text in ((2, b"<</Type/Catalog/Pages 3 0 R>>"), (3, b"<</Type/Pages/Kids[4 0 R]/Count 1>>"), (4, b"<</Type/Page/Parent 3 0 R/MediaBox[0 0 9 9]>>")):  # fmt: skip
        places_of.append(len(data) - begins)
        data += b"%d 0 obj\n%s\nendobj\n" % (number, text)
    table = len(data) - begins
    entries = b"".join(b"%010d 00000 n \n" % place for place in (9, *places_of))
    data += b"xref\n0 5\n0000000000 65535 f \n%strailer\n<</Size 5/Root 2 0 R>>\nstartxref\n%d\n%%%%EOF\n" % (entries, table)  # fmt: skip
    told = data[37 : 37 + len(remark)]
    data = data[:37] + told + zlib.crc32(told).to_bytes(4, "big") + data[41 + len(remark) :]
    assert begins == SECTOR
    layout = Layout()
    layout.put("first", whole_documents()["survey.pdf"])
    layout.put("both", data)
    alone = Memory(bytes(64 * SECTOR) + data[begins:] + bytes(-len(data) % SECTOR))
    assert hunted(alone.data).finds[0].name.endswith("pdf") and hunted(alone.data).finds[0].is_whole
    finds = hunts_of(bytes(layout.data), 2, monkeypatch)
    assert finds[0] == finds[1] and [each.name[-4:] for each in finds[0]] == [".pdf", ".png", ".jpg"]


def _ends(piece: int) -> int:
    if piece == 3:
        os._exit(9)
    return piece * piece


def test_work_goes_on_where_a_process_ended(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with LocalEngine(2) as engine:
        assert list(engine.map(_ends, (1, 2, 4))) == [1, 4, 16]
        with pytest.raises(EngineLost):
            list(engine.map(_ends, range(9)))
    layout = Layout(5)
    for name, data in list(whole_documents().items())[:20]:
        layout.put(name, data)
    image = layout.write(tmp_path / "disk.img")
    door, told = Sources(), []
    for ends in (False, True):
        where = unclaimed(door.open(str(image)).held, "", everything=True)  # type: ignore[attr-defined]
        engine = LocalEngine(2, places.prepare, door, str(image), where, Limits())
        if ends:
            monkeypatch.setattr(turns, "answered", _gone)
        hunt = Hunt(RawDisk(str(image)), where, Limits(), Hints(), engine=engine)
        for _ in hunt.run(lambda: False):
            pass
        told.append([each.extents for each in hunt.finds])
    assert told[0] == told[1] and len(told[0]) > 10


def _gone(piece: object) -> None:
    os._exit(9)


def test_what_is_wrongly_asked_is_said(tmp_path: Path, rustfern: Rustfern) -> None:
    image, _ = laid(tmp_path)
    folder = rustfern("scan", tmp_path, "--raw")
    assert folder.status == 2 and "Name the disk itself" in folder.err
    for words, said in ((("--budget", "20m"), "Add --raw"), (("--raw", "--budget", "soon"), "no length of time")):
        run = rustfern("scan", image, *words)
        assert run.status == 2 and said in run.err


# --- the page to choose from ------------------------------------------------------------------------------------------


def allowed(page: str) -> Iterator[tuple[str, str]]:
    """(what a policy allows, the sum of what stands in the page) of its style and script."""
    policy = re.search(r'Content-Security-Policy" content="([^"]*)"', page)
    assert policy and "default-src 'none'" in policy[1]
    for name in ("style", "script"):
        (inner,) = re.findall(rf"<{name}>(.*?)</{name}>", page, re.DOTALL)
        told = re.search(rf"{name}-src 'sha256-([^']+)'", policy[1])
        assert told
        yield told[1], b64encode(sha(inner.encode()).digest()).decode()


def test_a_page_shows_all_and_runs_nothing_of_it(tmp_path: Path, rustfern: Rustfern) -> None:
    layout = Layout()
    for name in ("plan.jpg", "plan.png", "survey.pdf", "timber-office.xls", "radio.mp3"):
        layout.put(name, whole_documents()[name])
    hostile = "</script><script>alert(1)</script> <img src=x onerror=alert(2)> and the tide tables of the quay"
    layout.put("hostile", docx(html.escape(f"{hostile}\n") * 20))
    case, page = tmp_path / "c.case", tmp_path / "all.html"
    rustfern("scan", layout.write(tmp_path / "card.img"), "--raw", "--case", case)
    run = rustfern("look", "--choose", page, "--case", case)
    assert run.status == 0 and "6 documents" in run.out
    text = page.read_text("utf-8")
    assert all(one == other for one, other in allowed(text)) and text.count("<script>") == 1
    assert text.count('src="data:image/jpeg;base64,') >= 3 and "://" not in re.sub(r"data:image[^\"]*", "", text)
    assert "<img src=x" not in text and "&lt;img src=x" in text
    assert len(re.findall(r'name="pick" value="\d+', text)) == 6 and f"--case {case}" in text
    assert rustfern("look", "--choose", page, "--case", case).status == 2  # it is there already
    assert rustfern("look", "--choose", tmp_path / "all.txt", "--case", case).status == 2
    assert rustfern("look", "1", "--choose", tmp_path / "b.html", "--case", case).status == 2


def test_a_page_of_what_a_folder_lost(tmp_path: Path, rustfern: Rustfern) -> None:
    from conftest import odt, write

    disk, case, page = tmp_path / "disk", tmp_path / "d.case", tmp_path / "all.html"
    write(
        disk / "home/ines/.config/libreoffice/4/user/backup/untitled_0.odt",
        odt("The keel of Merganser, frame by frame " * 9),
        1_790_000_000,
    )
    rustfern("scan", disk, "--case", case)
    assert rustfern("look", "--choose", page, "--case", case).status == 0
    assert "frame by frame" in page.read_text("utf-8")


def test_the_demo_card(tmp_path: Path, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch) -> None:
    """A card that was formatted: each document that was on it, the text in two pieces too."""
    monkeypatch.chdir(tmp_path)
    rustfern("demo")
    run = rustfern("scan", "marlow-quay-card.img", "--raw", "--json")
    copies = copies_of(run.json)
    assert run.status == 0 and len(copies) == 11 and all(copy["state"] == "intact" for copy in copies)
    assert max(len(copy["extents"]) for copy in copies) == 2
    assert "--raw" in rustfern("scan", "marlow-quay-card.img").out
    assert json.loads(run.out)["disks"][0]["volumes"][0]["searched_raw"] > 6_000_000
