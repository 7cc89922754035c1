"""Files that are whole in an unusual way, and those that only look like it: tags in front, strays between blocks, other owners of an ending."""

from __future__ import annotations

import csv
import io
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest
from backports import zstd
from conftest import Run, odt, packed, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.core.model import Content, State
from rustfern.formats import registry as formats
from rustfern.formats.format_table import extension_right
from rustfern.formats.interface import Limits
from rustfern.formats.media import mpeg
from rustfern.formats.media.audio import mp3_frame_length
from rustfern.formats.pages.pdf_rights import Rights
from rustfern.formats.text_sink import TextSink

MEDIA = packed("media.tar.xz")
TAG = b"ID3\3\0\0\0\0\0\x0a" + bytes(10)
LOW = b"\xff\xe2\x44\x64"
"""The head of a frame with a sum, of the lowest rates."""


def check(data: bytes, name: str) -> Content:
    return formats.check(io.BytesIO(data), name)


def flac() -> bytes:
    """One frame of silence in FLAC (RFC 9639, 8.2 and 9.1): 192 samples of two constant channels."""
    from rustfern.formats.media.flac import crc16

    head = b"\xff\xf8\x19\x18\0"
    crc = 0
    for byte in head:
        crc ^= byte
        for _ in range(8):
            crc = (crc << 1 ^ 0x07) & 0xFF if crc & 0x80 else crc << 1
    body = head + bytes([crc]) + bytes(6)
    facts = struct.pack(">HH6xQ16x", 192, 192, 44100 << 44 | 1 << 41 | 15 << 36 | 192)
    return b"fLaC\x80\0\0\x22" + facts + body + crc16(body).to_bytes(2, "big")


def adts(frames: int) -> bytes:
    """Frames of AAC, each with its length (ISO 14496-3, 1.A.2.2.1)."""
    return b"".join(
        b"\xff\xf1\x50\x80" + (57 << 5).to_bytes(2, "big") + b"\xfc" + bytes(range(50)) for _ in range(frames)
    )


def mp3(frames: int) -> bytes:
    return (LOW + bytes(range(1, 200)))[: mp3_frame_length(LOW)] * frames


def transport(packets: int, *, skip: int = -1, timed: bool = False) -> bytes:
    """Packets of two streams that take turns (ISO/IEC 13818-1, 2.4.3.2), without the one of number `skip`."""
    out = bytearray()
    for n in range(packets):
        if n != skip:
            out += bytes(4) * timed + struct.pack(">BHB", 0x47, 0x100 + n % 2, 0x10 | n // 2 & 15) + b"\xff" * 184
    return bytes(out)


PACK = b"\0\0\1\xba\x44\0\4\0\4\1\0\0\3\xf8"
PROGRAM = b"".join(PACK + b"\0\0\1\xe0\3\xf2" + bytes([n]) * 1010 for n in range(1, 20))


def png(more: int) -> bytes:
    """Eight grey rows of eight, and bytes behind them in the same stream."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 8, 8, 8, 0, 0, 0, 0))
    return b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", zlib.compress(bytes(9 * 8 + more))) + chunk(b"IEND", b"")


def pdf(packed: bytes) -> bytes:
    from pypdf import PdfWriter
    from pypdf.generic import NameObject, StreamObject

    writer, stream = PdfWriter(), StreamObject()
    stream.set_data(packed)
    stream[NameObject("/Filter")] = NameObject("/FlateDecode")
    writer.add_blank_page(200, 200)[NameObject("/Contents")] = writer._add_object(stream)
    out = io.BytesIO()
    writer.write(out)
    return out.getvalue()


def wave(mark: bytes, wrong: int = 0) -> bytes:
    """A hundred moments of two channels; `wrong` is how much less its head says that it is."""
    order = ">" if mark == b"RIFX" else "<"
    described = struct.pack(f"{order}4sIHHIIHH", b"fmt ", 16, 1, 2, 48_000, 192_000, 4, 16)
    sound = b"data" + struct.pack(f"{order}I", 400) + bytes(range(200)) * 2
    if mark in (b"RF64", b"BW64"):
        sound = b"data\xff\xff\xff\xff" + sound[8:]
        whole = 4 + 36 + len(described) + len(sound)
        return (
            mark + b"\xff" * 4 + b"WAVE" + struct.pack("<4sIQQQI", b"ds64", 28, whole, 400, 100, 0) + described + sound
        )
    return mark + struct.pack(f"{order}I", 4 + len(described) + len(sound) - wrong) + b"WAVE" + described + sound


def large_by_pax(data: bytes) -> bytes:
    """An archive whose file has its size in an extended header alone, as for files of more than 8 GB."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        item = tarfile.TarInfo("plan.txt")
        item.pax_headers = {"size": str(len(data))}
        archive.addfile(item)
    made = out.getvalue()[: 3 * 512]
    return made + data + bytes(-len(data) % 512 + 1024)


PLAIN_ODT = odt("keel")


def packed_again(document: bytes) -> bytes:
    """As macOS packs the unpacked parts of a document: with the attributes of each beside it."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(document)) as given, zipfile.ZipFile(out, "w") as made:
        for name in given.namelist():
            made.writestr(name, given.read(name))
            made.writestr(f"__MACOSX/._{name}", b"\0\5\x16\7\0\2\0\0Mac OS X" + bytes(140))
    return out.getvalue()


def declared(name: str, text: str, codec: str | None = None) -> bytes:
    return f'<?xml version="1.0" encoding="{name}"?>\n<svg><text>{text}</text></svg>\n'.encode(codec or name)


DRAWN = zlib.compress(b"BT (Kittiwake) Tj ET " * 40)
TABLE = ('var signs = "' + "".join(map(chr, (*range(1, 10), *range(14, 32), *range(0xA0, 0x180)))) + '";').encode()
XML = '<?xml version="1.0"?><!DOCTYPE a [{}]><a>&b;</a>'


@pytest.mark.parametrize(
    ("data", "name", "wanted", "said"),
    [
        (flac(), "a.flac", "intact", "all 1 frames"),
        (TAG + flac(), "a.flac", "intact", "all 1 frames"),
        (TAG + flac()[:-1] + b"x", "a.flac", "damaged", ""),
        (TAG + adts(5), "a.aac", "intact", "5 frames"),
        (TAG + b"TTA1" + bytes(90), "a.tta", "unreadable", "another kind"),
        (b"ADIF" + bytes(range(90)), "a.aac", "unreadable", "no marks"),
        (mp3(9), "a.mp3", "intact", "9 frames"),
        (TAG + mp3(9)[50:], "a.mp3", "intact", "stands in front"),
        (TAG + bytes(90) + mp3(9), "a.mp3", "damaged", "no frame"),
        (mp3(4) + bytes(range(99)) + mp3(4), "a.mp3", "damaged", "no frame"),
        (MEDIA["plan.gif"][:-1] + b"\0;", "a.gif", "intact", ""),
        (MEDIA["plan.gif"][:-1] + bytes(90) + b";", "a.gif", "damaged", ""),
        (png(0), "a.png", "intact", "8 by 8 pixels"),
        (png(30), "a.png", "intact", "30 bytes more"),
        (png(-9), "a.png", "damaged", "63 of 72"),
        (png(3 << 20), "a.png", "damaged", "longer"),
        (transport(400), "a.mts", "intact", "400 packets, each where it should be"),
        (transport(400, timed=True), "a.m2ts", "intact", "400 packets"),
        (transport(400, skip=200), "a.ts", "intact", "at 1 place some are missing"),
        (transport(400)[:-9], "a.mts", "damaged", "inside its last packet"),
        (transport(400)[:37_600] + bytes(512) + transport(400)[38_112:], "a.mts", "damaged", "byte 37600"),
        (b"Gang plank, two slings, high water at six. " * 40, "a.txt", "intact", "UTF-8"),
        (PROGRAM, "a.mpg", "intact", "19 packs"),
        (PROGRAM + b"\0\0\1\xb9", "a.vob", "intact", "19 packs"),
        (PROGRAM[:-5], "a.mpg", "damaged", "inside its last packet"),
        (PROGRAM[:9_000] + bytes(4096) + PROGRAM[13_096:], "a.mpg", "damaged", ""),
        (b"\0\0\1\xb3" + bytes(range(99)), "a.mpg", "unreadable", "without packs"),
        (pdf(DRAWN).replace(b"endobj", b"      ", 1), "a.pdf", "intact", "1 pages"),
        (pdf(DRAWN).replace(b"endobj", b"  9 9 ", 1), "a.pdf", "damaged", "does not end"),
        (declared("EUC-JP", "船台の計画、上架は月曜日"), "a.xml", "intact", "well-formed"),
        (declared("Shift_JIS", "船台①の計画、上架は月曜日", "cp932"), "a.xml", "intact", "well-formed"),
        (declared("GB2312", "船臺計劃，星期一上架", "gb18030"), "a.svg", "intact", "well-formed"),
        (declared("EUC-KR", "뷁 선대 계획, 월요일 상가", "cp949"), "a.xml", "intact", "well-formed"),
        (declared("Big5", "船台計劃，星期一上架"), "a.xml", "intact", "well-formed"),
        (declared("ISO-2022-JP", "船台の計画、上架は月曜日"), "a.xml", "intact", "well-formed"),
        (declared("IBM855", "План слипа: Чайка поднимается в понедельник"), "a.xml", "intact", "CP855"),
        (declared("EUC-JP", "船台の計画、上架は月曜日")[:-20], "a.xml", "damaged", ""),
        (declared("EUC-JP", "船台の計画").replace("画".encode("euc-jp"), b"\xb2\x20"), "a.xml", "damaged", "character"),
        ("Slipway plan, Kittiwake on Monday".encode("utf-32-be"), "a.txt", "intact", "UTF-32-BE"),
        ("<html>Slipway plan 𝄞 of Monday</html>".encode("utf-32-le"), "a.html", "intact", "UTF-32-LE"),
        (bytes(byte for _ in range(40) for byte in (0x8E, 0xA2, 0xE4, 0xF3, 0x20)), "a.txt", "unreadable", "encoding"),
        (bytes(byte for _ in range(40) for byte in (0x8E, 0xA2, 0x03, 0xF3, 0x07)), "a.txt", "damaged", "not those of txt"),
        (b"\xcf\x9aW\x13" + bytes(12) + b"Kittiwake" * 90, "a.db", "unreadable", "another program"),
        (b"\x1a\x01\x30\0\x26\0\x0f\0\x9d\x01" + b"xterm\0" * 90, "a.js", "unreadable", "another program"),
        (b"Two slings at high water; the key lies in the shed.\n", "slip.note", "intact", "UTF-8"),
        (b"<?xml version='1.0'?><note><title>Slip</title></not", "slip.note", "damaged", "XML"),
        (wave(b"RF64"), "a.wav", "intact", "all its 400 bytes"),
        (wave(b"BW64"), "a.wav", "intact", "all its 400 bytes"),
        (wave(b"RIFX"), "a.wav", "intact", "all its 400 bytes"),
        (wave(b"RF64")[:-9], "a.wav", "damaged", "stops after"),
        (wave(b"RIFX")[:-9], "a.wav", "damaged", "stops after"),
        (wave(b"RIFF", wrong=12), "a.wav", "intact", "all its 400 bytes"),
        (wave(b"RIFF", wrong=12)[:-9], "a.wav", "damaged", "beyond the end"),
        (MEDIA["plan.gif"][:-1], "a.gif", "intact", "end mark is missing"),
        (MEDIA["plan.gif"][:-2], "a.gif", "damaged", ""),
        (b"\0\0\1\0\1\0\x10\x10\0\0\1\0\x20\0\x68\4\0\0\x16\0\0\0" + bytes(1128), "a.png", "unreadable", "another program"),
        (large_by_pax(b"keel\n" * 300), "a.tar", "intact", "all 2 headers"),
        (large_by_pax(b"keel\n" * 300).replace(b" size=1500\n", b" size=0500\n"), "a.tar", "damaged", "header"),
        (b"\x03\xf3\r\n" + b"PK\3\4 and PK\5\6 are what it looks for" * 9, "test_zipimport.pyc", "unreadable", "not known"),
        (b"<para>By &author; of &yard;, 2026</para>\n", "a.xml", "intact", "defined elsewhere"),
        (b"<para>By &author; of &yard;, 2026</par>\n", "a.xml", "damaged", "mismatched"),
        (b"<para>By &author; of &yard", "a.xml", "damaged", ""),
        (b'<svg xmlns="http://www.w3.org/2000/svg"><text>&yard;</text></svg>', "a.svg", "damaged", "undefined"),
        (b"\0\0\xfe\xff" + declared("UTF-32", "plan", "utf-32-be"), "a.svg", "intact", "well-formed"),
        (packed_again(PLAIN_ODT), "a.odt", "intact", ""),
        (packed_again(PLAIN_ODT).replace(b"keel", b"reel"), "a.odt", "damaged", ""),
        (TABLE * 20, "a.js", "intact", "UTF-8"),
        (bytes(range(256)) * 20, "a.gpx", "unreadable", "other programs"),
        (bytes(range(256)) * 20, "a.log", "unreadable", "other programs"),
        (b"II*\0".ljust(128, b"\0") + b"DICM" + bytes(range(99)), "a.dcm", "unreadable", "DICOM picture"),
        (bytes(range(1, 256)) * 9, "a.dcm", "unreadable", "other programs"),
        (TAG + mp3(1), "a.mp3", "intact", "1 frames"),
        (bytes(5_000), "a.zip.001", "damaged", "the content is gone"),
        (b"", "a.mbox", "empty", "no message"),
        (b"", ".nomedia", "empty", "zero bytes"),
        (b"", "survey", "damaged", "zero bytes"),
        (b"%!PS-Adobe-3.0\nshow\n%%EOF\n" + b"%x\n" * 900 + b"%AI9_PrivateDataEnd\n", "a.eps", "intact", "end mark"),
        (b"%!PS-Adobe-2.0\n/work { show } def\nquit\n", "a.ps", "intact", "end mark"),
        (pdf(DRAWN), "a.pdf", "intact", ""),
        (pdf(DRAWN[:-4]), "a.pdf", "intact", ""),
        (pdf(DRAWN[:-2]), "a.pdf", "intact", ""),
        (pdf(DRAWN[:-9]), "a.pdf", "damaged", "stops before its end"),
        (XML.format('<!ENTITY b "&c; yard"><!ENTITY c "Quay">').encode(), "a.xml", "intact", "well-formed"),
        (XML.format('<!ENTITY b "&c;"><!ENTITY c "&b;">').encode(), "a.xml", "unreadable", "entities"),
        (XML.format(f'<!ENTITY b "&c;&c;"><!ENTITY c "{"x" * 900}">').encode(), "a.xml", "unreadable", "entities"),
        (XML.format(f'<!ENTITY b "{"x" * 999}">').replace("&b;", "&b;" * 99_000).encode(), "a.xml", "unreadable", "entities"),
    ],
    ids=lambda value: value if isinstance(value, str) else "",
)  # fmt: skip
def test_whole_in_an_unusual_way(data: bytes, name: str, wanted: str, said: str) -> None:
    content = check(data, name)
    assert (str(content.state), said in content.reason) == (wanted, True), content.reason
    assert wanted == "unreadable" or extension_right(name, content.format) is not False


class Slow(io.BytesIO):
    """Gives a little at a time, as files in archives may."""

    def read(self, size: int | None = -1) -> bytes:
        return super().read(min(size or 0, 1000) if size and size > 0 else size)


def test_packets_are_followed_whatever_a_read_gives() -> None:
    data = transport(400)
    assert "400 packets" in mpeg.check(Slow(data), len(data), "a.mts", TextSink(), Limits()).reason
    with pytest.raises(Malformed, match="last packet"):
        mpeg.check(Slow(data[:-9]), len(data) - 9, "a.mts", TextSink(), Limits())


def test_an_encrypted_stream_of_nothing() -> None:
    assert Rights(bytes(16), "AESV2").open(bytes(16), 1, 0, 0) == b""


@given(st.binary(max_size=1200), st.integers(0, 399), st.booleans())
def test_any_bytes_in_a_transport_stream_get_a_verdict(some: bytes, place: int, timed: bool) -> None:
    whole = transport(400, timed=timed)
    at = place * 188
    for data in (whole[:at] + some + whole[at + len(some) :], whole[:188] + some):
        assert str(check(data, "a.mts").state) in ("intact", "damaged", "unreadable", "empty")


@given(st.binary(max_size=300), st.integers(0, len(PROGRAM)))
def test_any_bytes_in_a_program_stream_get_a_verdict(some: bytes, at: int) -> None:
    for data in (PROGRAM[:at] + some + PROGRAM[at + len(some) :], PROGRAM[:at] + some):
        assert str(check(data, "a.mpg").state) in ("intact", "damaged", "unreadable", "empty")


def test_what_is_searched_like_a_folder_is_told(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    files = [
        write(tmp_path / "yard.tar.zst", zstd.compress(b"boats" * 99)),
        write(tmp_path / "photo.raw", bytes(range(1, 256)) * 99),
    ]
    told = rustfern("check", *files, "--json").json["files"]
    reasons = {Path(each["path"]).name: each["reason"] for each in told}
    assert "this is an archive" in reasons["yard.tar.zst"] and "if it is the image of a disk" in reasons["photo.raw"]


NAMES = st.sampled_from(
    ["EUC-JP", "Shift_JIS", "GB2312", "Big5", "EUC-KR", "ISO-2022-JP", "hz-gb-2312", "IBM855", "UTF-9", "zlib", "hex", "rot13", "undefined", "idna"]
)  # fmt: skip


@given(name=NAMES, inside=st.binary(max_size=40), ending=st.sampled_from(["xml", "svg", "txt", "html", "note"]))
def test_any_encoding_may_be_declared(name: str, inside: bytes, ending: str) -> None:
    data = b'<?xml version="1.0" encoding="' + name.encode() + b'"?><a>' + inside + b"</a>"
    assert formats.check(io.BytesIO(data), f"a.{ending}").state in tuple(State)


ROWS = st.lists(
    st.lists(st.text(st.sampled_from('ab,;"\t\n é'), max_size=7), min_size=3, max_size=3), min_size=2, max_size=8
)


@given(rows=ROWS, sign=st.sampled_from(",;\t"), ends=st.booleans())
def test_tables_as_a_library_writes_them_are_whole(rows: list[list[str]], sign: str, ends: bool) -> None:
    out = io.StringIO()
    csv.writer(out, delimiter=sign).writerows(rows)
    data = (out.getvalue() if ends else out.getvalue().removesuffix("\r\n")).encode()
    assert formats.check(io.BytesIO(data), "a.csv").state is not State.DAMAGED
