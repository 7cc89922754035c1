"""PDF, pictures, recordings and rich text by real producers: whole ones are intact, cut ones never; the `check` command."""

from __future__ import annotations

import contextlib
import io
import json
import os
import random
import struct
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, docx, odt, package, packed, write
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.core.model import State
from rustfern.formats import format_table
from rustfern.formats import registry as formats
from rustfern.formats.office import art_pictures

Rustfern = Callable[..., Run]
MEDIA = packed("media.tar.xz")
T0 = 1_760_000_000


def state(data: bytes, name: str) -> str:
    return str(formats.check(io.BytesIO(data), name).state)


@pytest.mark.parametrize("name", sorted(MEDIA))
def test_whole_ones_are_intact_and_cut_ones_never(name: str) -> None:
    data = MEDIA[name]
    content = formats.check(io.BytesIO(data), name)
    assert content.state is State.INTACT and format_table.extension_right(name, content.format), content.reason
    assert content.reason and content.sha256
    for share in (*range(1, 100, 7), 99):
        hurt = data[: len(data) * share // 100]
        assert state(hurt, name) in ("damaged", "unreadable"), f"cut at {share} %"


SUMMED = sorted(name for name in MEDIA if name.endswith((".png", ".ogg", ".opus", ".rtf")))


@pytest.mark.parametrize("name", SUMMED)
def test_any_hole_in_a_format_with_sums_or_brackets_shows(name: str) -> None:
    data, seed = MEDIA[name], random.Random(7)
    for _ in range(20):
        at = seed.randrange(len(data) - 64)
        assert state(data[:at] + bytes(64) + data[at + 64 :], name) != "intact", at


def chunk(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


PNG = b"\x89PNG\r\n\x1a\n"


def png(width: int, height: int, body: bytes) -> bytes:
    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return PNG + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(body)) + chunk(b"IEND", b"")


def box(kind: bytes, body: bytes = b"", size: int | None = None) -> bytes:
    return struct.pack(">I", 8 + len(body) if size is None else size) + kind + body


HOSTILE = {
    "a picture that claims 2^31 pixels": ("x.png", png(2**31 - 1, 2**31 - 1, b"\0"), "unreadable", "refused"),
    "too few rows": ("x.png", png(4, 4, b"\0aaaa"), "damaged", "unpacks to"),
    "too many rows": ("x.png", png(1, 1, b"\0a" * (1 << 20)), "damaged", "longer"),
    "a filter that does not exist": ("x.png", png(1, 2, b"\0a\x09b"), "damaged", "filter"),
    "a recording with a box of 2^63": ("x.mp4", box(b"ftyp", b"isom0000") + struct.pack(">I4sQ", 1, b"mdat", 2**63), "damaged", "reaches beyond"),
    "a recording that was never finished": ("x.mp4", box(b"ftyp", b"isom0000") + box(b"mdat", bytes(range(250)), 0), "damaged", "never finished"),
    "a box of no length": ("x.mp4", box(b"ftyp", b"isom0000") + box(b"moov", b"", 4), "damaged", ""),
    "objects that refer to themselves": ("x.pdf", b"%PDF-1.4\n1 0 obj\n1 0 R\nendobj\nxref\n0 2\n0000000000 65535 f \n0000000009 00000 n \n"
        b"trailer\n<</Root 1 0 R/Size 2>>\nstartxref\n30\n%%EOF", "damaged", "page"),
    "tables of objects in a loop": ("x.pdf", b"%PDF-1.4\nxref\n0 1\n0000000000 65535 f \ntrailer\n<</Root 1 0 R/Prev 9>>\nstartxref\n9\n%%EOF", "damaged", "page"),
    "objects nested without end": ("x.pdf", b"%PDF-1.4\n1 0 obj\n" + b"[" * 5000 + b"\nendobj\nxref\n0 2\n0000000000 65535 f \n0000000009 00000 n \n"
        b"trailer\n<</Root 1 0 R>>\nstartxref\n5024\n%%EOF", "", ""),
    "directories in a loop": ("x.tif", b"II*\0\x08\0\0\0\x01\0\x00\x01\x03\0\x01\0\0\0\x01\0\0\0\x08\0\0\0", "damaged", "loop"),
    "an unfinished sound": ("x.wav", b"RIFF\0\0\0\0WAVEfmt " + bytes(40), "damaged", "never finished"),
    "rich text with an open bracket": ("x.rtf", b"{\\rtf1 {hello}", "damaged", "open"),
    "rich text with something behind": ("x.rtf", b"{\\rtf1 hello}more", "damaged", "behind"),
}  # fmt: skip


@pytest.mark.parametrize("what", sorted(HOSTILE))
def test_hostile_files_get_a_verdict(what: str) -> None:
    name, data, wanted, said = HOSTILE[what]
    content = formats.check(io.BytesIO(data), name)
    assert content.state != "intact" and (not wanted or content.state == wanted), content.reason
    assert said in content.reason


@settings(max_examples=60)
@given(st.sampled_from(sorted(MEDIA)), st.data())
def test_mutated_bytes_only_get_verdicts(name: str, data: st.DataObject) -> None:
    body = bytearray(MEDIA[name])
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(0, len(body) - 1))
        piece = data.draw(st.binary(min_size=1, max_size=40))
        body[at : at + data.draw(st.integers(0, 200))] = piece
    assert state(bytes(body), name) in {str(each) for each in State}


@settings(max_examples=60)
@given(
    st.sampled_from(
        [
            PNG,
            b"\xff\xd8\xff",
            b"%PDF-1.4\n",
            b"GIF89a",
            b"II*\0",
            b"RIFF\x20\0\0\0WAVE",
            b"OggS",
            b"fLaC",
            b"\x1a\x45\xdf\xa3",
            b"\xff\xfb\x90\0",
            b"{\\rtf1",
            b"\0\0\0\x08ftyp",
            b"8BPS\0\1",
        ]
    ),
    st.binary(max_size=400),
)
def test_arbitrary_bytes_only_get_verdicts(head: bytes, rest: bytes) -> None:
    assume(not (head.startswith(b"{") and b"}" in rest))  # a letter and a bracket make it a whole rich text
    assert state(head + rest, "x") != "intact"


def test_the_check_command(tmp_path: Path, rustfern: Rustfern) -> None:
    whole = write(tmp_path / "plan.jpg", MEDIA["plan.jpg"])
    cut = write(tmp_path / "cut.jpg", MEDIA["plan.jpg"][:900])
    zeros = write(tmp_path / "zeros.docx", bytes(5000))
    misnamed = write(tmp_path / "letter.pdf", docx("a letter about the crane"))
    write(tmp_path / "~$tter.pdf", b"")
    os.mkfifo(tmp_path / "pipe")
    run = rustfern("check", whole, cut, zeros, misnamed, tmp_path / "pipe", tmp_path / "absent", "--json")
    files = run.json["files"]
    assert (
        run.status == 2
        and "nothing at this path" in run.err
        and [f["state"] for f in files]
        == [
            "intact",
            "damaged",
            "damaged",
            "intact",
            "unreadable",
            "unreadable",
        ]
    )
    assert files[0].keys() >= {"path", "format", "class", "extension_right", "state", "reason", "size", "words"}
    assert (files[3]["format"], files[3]["extension_right"], files[3]["words"]) == ("docx", False, None)
    assert rustfern("check", misnamed, "--json", "--count").json["files"][0]["words"] == 5
    assert any("rename it to .docx" in text for text in files[3]["hindrances"]) and any(
        "lock" in text for text in files[3]["hindrances"]
    )
    assert rustfern("check", whole).status == 0 and rustfern("check", tmp_path / "absent").status == 2
    screen = rustfern("check", "--recursive", tmp_path)
    assert screen.status == 1 and screen.out.index("damaged") < screen.out.index("intact   ")
    assert rustfern("check", tmp_path).status == 1


def _photo(**how: object) -> bytes:
    """A photo too large to be walked through where a decoder takes it for whole."""
    from PIL import Image

    made = io.BytesIO()
    Image.frombytes("RGB", (400, 300), random.Random(5).randbytes(360_000)).resize((1000, 750)).save(
        made, "JPEG", **how
    )
    return made.getvalue()


def _codes(values: bytes, *, end: bool = True) -> bytes:
    """LZW codes of nine bits that use no entry of the table, but one that is not there for `?`."""
    codes = []
    for at, value in enumerate(values):
        codes += [256] * (at % 200 == 0) + [500 if value == 63 else value]
    bits = "".join(f"{code:09b}" for code in codes + [257] * end)
    return int(bits.ljust(-(-len(bits) // 8) * 8, "0"), 2).to_bytes(-(-len(bits) // 8), "big")


@pytest.mark.parametrize("colours", [2, 16, 256])
@pytest.mark.parametrize(("kind", "how"), [("GIF", {}), ("TIFF", {"compression": "tiff_lzw"})])
def test_pictures_packed_by_lzw(kind: str, how: dict[str, str], colours: int) -> None:
    """Noise fills the table of codes many times over, a plain part makes its entries long."""
    from PIL import Image

    noise = bytes(value % colours for value in random.Random(colours).randbytes(60_000)) + bytes(30_000)
    made = io.BytesIO()
    picture = Image.frombytes("P" if kind == "GIF" else "L", (300, 300), noise)
    if kind == "GIF":
        picture.putpalette(bytes(range(colours)) * 3)
    picture.save(made, kind, **how)
    whole, name = made.getvalue(), f"plan.{kind.lower()}"
    assert state(whole, name) == "intact"
    at = len(whole) // 3
    for hurt in (
        whole[:at] + bytes(2000) + whole[at + 2000 :],
        whole[:at] + whole[at + 900 :],
        whole[:at] + b"\xff" * 40 + whole[at + 40 :],
    ):
        assert state(hurt, name) == "damaged"


@pytest.mark.parametrize(
    ("archive", "name", "free"),
    [("packages.tar.xz", "survey-office.doc", 6), ("packages.tar.xz", "timber-office.xls", 4), ("packages.tar.xz", "timber-xlwt.xls", 0),
     ("media.tar.xz", "plan-444.jpg", 0), ("media.tar.xz", "plan-im-progressive.jpg", 0), ("media.tar.xz", "plan-cmyk.jpg", 0)],
)  # fmt: skip
def test_a_sector_of_zeros_shows_wherever_the_content_is(archive: str, name: str, free: int) -> None:
    """`free` sectors hold tables of the container and descriptions only, of which nothing can be said."""
    data = packed(archive)[name]
    places = [at for at in range(512, len(data) - 512, 512) if data[at : at + 512].strip(b"\0")]
    found = [state(data[:at] + bytes(512) + data[at + 512 :], name) for at in places]
    assert found.count("intact") <= free < len(found)


def test_pictures_in_older_presentations_are_checked_by_their_own_format() -> None:
    data = packed("packages.tar.xz")["launch-office.ppt"]
    at = data.index(b"\x89PNG") + 300
    assert state(data, "launch.ppt") == "intact"
    hurt = formats.check(io.BytesIO(data[:at] + b"\x55" * 8 + data[at + 8 :]), "launch.ppt")
    assert hurt.state is State.DAMAGED and "picture" in hurt.reason
    # Of a text's pictures, and of what programs draw with, the packed bytes must end where they say.
    drawing = zlib.compress(random.Random(6).randbytes(10_000))
    for packed_in, wanted in (
        (drawing, None),
        (drawing[:50] + bytes(40) + drawing[90:], "damaged"),
        (drawing[:-20], "stops"),
    ):
        head = struct.pack("<I24xIBB", 10_000, len(packed_in), 0, 0xFE)
        record = struct.pack("<HHI", 0x3D4 << 4, 0xF01A, 50 + len(packed_in)) + bytes(16) + head + packed_in
        inline = struct.pack("<IHH", 68 + len(record), 68, 100).ljust(68, b"\0") + record
        if wanted is None:
            art_pictures.check_stored(record)
            art_pictures.check_inline(inline)
            continue
        for check, stream in ((art_pictures.check_stored, record), (art_pictures.check_inline, inline)):
            with pytest.raises(Malformed, match=wanted):
                check(stream)


@given(st.binary(max_size=300))
def test_any_records_of_pictures(data: bytes) -> None:
    for check in (art_pictures.check_stored, art_pictures.check_inline):
        for stream in (data, struct.pack("<IHH", 68 + len(data), 68, 100).ljust(68, b"\0") + data):
            with contextlib.suppress(Malformed):
                check(stream)


@pytest.mark.parametrize(
    ("runs", "wanted"),
    [(b"\4\7\0\0" * 3 + b"\4\7\0\1", "intact"), (b"\4\7\0\0" * 4, "intact"), (b"\0\4\1\2\3\4\0\0" * 4 + b"\0\1", "intact"),
     (b"\0\2\0\3\4\7\0\1", "intact"), (b"\4\7\0\0" + bytes(60), "damaged"), (b"\4\7\0\0\4\7", "damaged")],
)  # fmt: skip
def test_bitmaps_packed_by_runs(runs: bytes, wanted: str) -> None:
    head = struct.pack("<IiiHHIIiiII", 40, 4, 4, 1, 8, 1, len(runs), 0, 0, 256, 0) + bytes(1024)
    whole = struct.pack("<2sIII", b"BM", 14 + len(head) + len(runs), 0, 14 + len(head)) + head + runs
    assert state(whole, "plan.bmp") == wanted


def test_a_lost_sector_in_a_layered_picture() -> None:
    rows = b"\xfd\x07" * 8 * 400  # 32 pixels each: a run of four, eight times
    data = struct.pack(">4sH6xHIIHH", b"8BPS", 1, 57, 400, 32, 8, 7) + bytes(12) + struct.pack(">H", 1)
    data += struct.pack(">H", 16) * 400 + bytes(2 * 400 * 56) + rows
    assert state(data, "plan.psd") == "intact"
    at = (len(data) - 2000) // 512 * 512
    assert state(data[:at] + bytes(512) + data[at + 512 :], "plan.psd") == "damaged"


def test_streams_packed_by_lzw() -> None:
    drawn = b"BT /F1 11 Tf 56 800 Td (Kittiwake) Tj ET\n" * 30
    for body, wanted in ((drawn, "intact"), (drawn[:600] + b"?" + drawn[600:], "damaged")):
        for end in (True, False):
            assert state(_pdf(_codes(body, end=end), b"/Filter/LZWDecode"), "survey.pdf") == wanted


@given(
    st.binary(min_size=1, max_size=400), st.integers(0, 4), st.integers(0, 1 << 16), st.binary(min_size=8, max_size=8)
)
def test_streams_without_the_sum_behind_them(body: bytes, without: int, at: int, other: bytes) -> None:
    """Some producers leave the sum away, or a part; damage that makes data seem to end too early is none of these."""
    whole = zlib.compress(b"BT " + body + b" ET")
    for end in (b"", b"\r\n") if without in (0, 4) else (b"",):
        assert state(_pdf(whole[: len(whole) - without] + end, b"/Filter/FlateDecode"), "survey.pdf") == "intact"
    at = 2 + at % (len(whole) - 6)
    hurt = (whole[:at] + other + whole[at + 8 :])[: len(whole)]
    assume(hurt != whole)
    assert state(_pdf(hurt, b"/Filter/FlateDecode"), "survey.pdf") == "damaged"


_SHOWN = b"/Type/XObject/Subtype/Image/Width 1000/Height 750/BitsPerComponent 8/ColorSpace/DeviceRGB/Filter/DCTDecode"


def _pdf(stream: bytes, facts: bytes = _SHOWN) -> bytes:
    """One page that shows a picture, or another stream."""
    objects = [
        b"<</Type/Catalog/Pages 2 0 R>>",
        b"<</Type/Pages/Kids[3 0 R]/Count 1>>",
        b"<</Type/Page/Parent 2 0 R/MediaBox[0 0 500 400]/Resources<</XObject<</P 4 0 R>>>>>>",
        b"<<%s/Length %d>>\nstream\n%s\nendstream" % (facts, len(stream), stream),
    ]
    made, table = b"%PDF-1.4\n", b"0000000000 65535 f \n"
    for number, body in enumerate(objects, 1):
        table += b"%010d 00000 n \n" % len(made)
        made += b"%d 0 obj\n%s\nendobj\n" % (number, body)
    trailer = b"trailer\n<</Size 5/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n" % len(made)
    return made + b"xref\n0 5\n" + table + trailer


@pytest.mark.parametrize(
    "how", [{}, {"progressive": True}, {"restart_marker_rows": 1}, {"subsampling": 0, "quality": 95}]
)
def test_large_photos_alone_and_in_documents(how: dict[str, object]) -> None:
    whole = _photo(**how)
    assert len(whole) > 160 << 10 and state(whole, "kittiwake.jpg") == "intact"
    assert state(whole + bytes(600), "kittiwake.jpg") == "intact"
    at = len(whole) * 2 // 3
    hurts = {
        "cut": whole[:at],
        "zeros": whole[:at] + bytes(4096) + whole[at + 4096 :],
        "text": whole[:at] + b"Hull survey of the Kittiwake. " * 100 + whole[at + 3000 :],
        "shorter": whole[:at] + whole[at + 700 :],
        "another's": whole[:at] + _photo(quality=50)[9000:14000] + whole[at + 5000 :],
    }
    for title, hurt in hurts.items():
        assert state(hurt, "kittiwake.jpg") == "damaged", title
    for title, inner in {"whole": whole, **hurts}.items():
        wanted = "intact" if title == "whole" else "damaged"
        packed_in = odt("the hull", extra={"Pictures/one.jpg": inner})
        assert state(packed_in, "survey.odt") == wanted, title
        assert state(_pdf(inner), "survey.pdf") == wanted, title


def test_a_file_from_standard_input_a_large_hole_and_many_at_once(tmp_path: Path, rustfern: Rustfern) -> None:
    import subprocess

    from conftest import BUILT

    done = subprocess.run([BUILT, "check", "-", "--json"], input=MEDIA["form.pdf"], capture_output=True, check=False)
    assert json.loads(done.stdout)["files"][0]["amounts"] == {"pages": 2, "objects": 14, "fields": 1}
    hole = tmp_path / "hole.mp4"
    with hole.open("wb") as out:
        out.write(box(b"ftyp", b"isom0000"))
        out.truncate(10 << 30)
    assert rustfern("check", hole, "--json").json["files"][0]["state"] == "damaged"


def _attack(base: Path) -> None:
    """Renamed in place, with a note in the folder."""
    for number in range(8):
        write(base / f"plan {number}.docx.krypt7", os.urandom(3000), T0 + number)
    write(base / "READ ME.txt", b"Your files are locked.\n", T0 + 9)


def _made_up_names(base: Path) -> None:
    for number in range(9):
        write(base / f"{number % 3}" / f"{os.urandom(8).hex()}.krypt7", os.urandom(3000), T0 + number)
        write(base / f"{number % 3}" / "READ ME.txt", b"Your files are locked.\n", T0 + number)


def _in_place(base: Path) -> None:
    for number in range(9):
        write(base / f"order {number}.{('docx', 'pdf', 'jpg')[number % 3]}", os.urandom(3000), T0 + number)


def _game(base: Path) -> None:
    """An archive that was unpacked: packed data of its own kind, and what can be read."""
    for number in range(9):
        write(base / f"{number % 3}" / f"level {number}.pak", os.urandom(3000), T0)
        write(base / f"{number % 3}" / f"about {number}.txt", b"The old slipway.\n", T0)


def _one_folder(base: Path) -> None:
    for number in range(9):
        write(base / f"key {number}.bin", os.urandom(3000), T0)


def _hurt_archives(base: Path) -> None:
    for number in range(9):
        write(base / f"plan {number}.zip", package({"a": str(number)}), T0)
        write(base / f"noise {number}.zip", b"PK\3\4" + os.urandom(3000), T0) if number < 8 else None


@pytest.mark.parametrize(
    ("lay", "alarming"),
    [(_attack, True), (_made_up_names, True), (_in_place, True), (_game, False), (_one_folder, False), (_hurt_archives, False)],
)  # fmt: skip
def test_an_alarm_on_what_an_attack_leaves_only(
    lay: Callable[[Path], None], alarming: bool, tmp_path: Path, rustfern: Rustfern
) -> None:
    lay(tmp_path / "yard")
    assert ("disconnect" in rustfern("check", "--recursive", tmp_path / "yard").out) is alarming
    assert (rustfern("check", "--recursive", tmp_path / "yard", "--json").json["alarm"] is not None) is alarming


def packed_forms() -> dict[str, bytes]:
    """Archives and drawings as the standard library and programs write them."""
    import bz2
    import gzip
    import lzma
    import tarfile

    text = b"garboard seam raked out and payed\n" * 400
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w") as target:
        info = tarfile.TarInfo("notes.txt")
        info.size = len(text)
        target.addfile(info, io.BytesIO(text))
    return {
        "a.xz": lzma.compress(text), "a.bz2": bz2.compress(text), "a.gz": gzip.compress(text, mtime=0), "a.tar": buffer.getvalue(),
        "a.eps": b"%!PS-Adobe-3.0 EPSF-3.0\nnewpath 0 0 moveto 9 9 lineto stroke\n%%EOF\n",
        "a.dxf": b"0\nSECTION\n2\nENTITIES\n0\nENDSEC\n0\nEOF\n",
    }  # fmt: skip


@pytest.mark.parametrize("name", sorted(packed_forms()))
def test_archives_and_drawings(name: str) -> None:
    data = packed_forms()[name]
    content = formats.check(io.BytesIO(data), name)
    assert content.state == "intact" and content.format == name[2:], content.reason
    assert {state(data[: len(data) * share // 100], name) for share in (30, 60)} == {"damaged"}


@pytest.mark.parametrize(
    ("picture", "wanted"),
    [(MEDIA["plan.png"], "intact"), (MEDIA["plan.png"][:-30], "damaged"), (MEDIA["plan.jpg"][:900], "damaged")],
)
def test_pictures_inside_documents(picture: bytes, wanted: str) -> None:
    extra: dict[str, str | bytes] = {"word/media/image1.png": picture}
    content = formats.check(io.BytesIO(docx("a survey", extra=extra)), "a.docx")  # type: ignore[arg-type]
    assert content.state == wanted and (wanted == "intact" or "opens, but the picture" in content.reason)


def test_blank_documents_are_empty() -> None:
    assert state(docx(""), "a.docx") == "empty" and state(docx("x"), "a.docx") == "intact"
    assert state(docx("", extra={"word/media/image1.bin": "drawn"}), "a.docx") == "intact"


def drawing(version: bytes, size: int = 9000, *, hidden: bool = True) -> bytes:
    """A stand-in for a DWG drawing: a right header, then bytes that nobody publishes."""
    if version < b"AC1018":
        head = (
            version.ljust(0x15, b"\0")
            + struct.pack("<I", 3)
            + b"".join(struct.pack("<BII", n, 500 * n + 200, 400) for n in range(3))
        )
        return head.ljust(size, b"\x5a")
    plain = b"AcFssFcAJMB\0".ljust(0x2C, b"\0") + struct.pack("<QQ", 4000, 5000)
    plain = plain.ljust(0x54, b"\0") + struct.pack("<Q", 3000)
    plain = plain.ljust(0x68, b"\0")
    plain += struct.pack("<I", zlib.crc32(plain + bytes(4)))
    seed, out = 1, bytearray()
    for byte in plain:
        seed = (seed * 0x343FD + 0x269EC3) & 0xFFFFFFFF
        out.append(byte ^ (seed >> 16 & 0xFF))
    return (version.ljust(0x80, b"\0") + (bytes(out) if hidden else bytes(0x6C))).ljust(size, b"\x5a")


@pytest.mark.parametrize(
    ("data", "wanted"),
    [
        (drawing(b"AC1015"), "intact"),
        (drawing(b"AC1015")[:1200], "damaged"),
        (drawing(b"AC1032"), "intact"),
        (drawing(b"AC1032")[:3500], "damaged"),
        (drawing(b"AC1032", 20000)[:9000] + bytes(11000), "damaged"),
        (drawing(b"AC1032", hidden=False), "unreadable"),
        (drawing(b"AC1021"), "unreadable"),
    ],
)
def test_drawings_as_far_as_they_are_published(data: bytes, wanted: str) -> None:
    assert state(data, "slip.dwg") == wanted == state(data, "slip_1_1_4f2a.sv$")
