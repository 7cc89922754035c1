"""Older encodings of texts that are not in Latin letters: judged by decoding them, and by how a language of that script looks.

Source: the tables of the Unicode consortium as the standard library has them; GB/T 2312, Big5, JIS X 0208 and KS X 1001, whose first levels
hold what is written every day; the letters that each language writes most.
"""

from __future__ import annotations

import codecs
import unicodedata
from collections.abc import Iterator, Sequence
from typing import NamedTuple

_LEAST, _LEAST_FOREIGN = 24, 8
_WIDE_SIGNS = frozenset(" \n\r\t\u3000\u3001\u3002\uff0c\uff01\uff1f")
_WIDE_KINDS = frozenset("LMNPZS")
_MAX_ROWS, _WIDE_SHARE, _SIGN_SHARE = 8, 0.98, 0.01
_COMMON_SHARE, _SCRIPT_SHARE, _LOWER_SHARE = 0.8, 0.9, 0.5


class _Script(NamedTuple):
    """Letters of a script: first and last code point, those that are written most, the least share that these have, and its encodings."""

    first: int
    last: int
    common: str
    share: float
    encodings: tuple[str, ...]


_SCRIPTS = (
    _Script(
        0x400,
        0x45F,
        "оеаинтсрвлкмдпу",
        0.6,
        ("cp1251", "koi8_r", "koi8_u", "iso8859_5", "cp866", "cp855", "mac_cyrillic"),
    ),
    _Script(0x370, 0x3FF, "αοιετσνηυρπκμλςάίόέή", 0.6, ("cp1253", "iso8859_7", "cp737", "mac_greek")),
    _Script(0x590, 0x5FF, "יוהלאתרבשמנדק", 0.6, ("cp1255", "iso8859_8", "cp862")),
    _Script(0x600, 0x6FF, "اليمونرتبعةدسكف", 0.6, ("cp1256", "iso8859_6")),
    _Script(0xE00, 0xE7F, "านรอกเงมยลวดทสตะปบคหแจพช่้ีัิ็์ุูไใโำ", 0.75, ("cp874",)),
)
# Encoding → the first bytes of what is written every day (letters and signs).
_LEADS: tuple[tuple[str, tuple[range, ...]], ...] = (
    ("euc_jp", (range(0xA1, 0xA2), range(0xA4, 0xA6), range(0xB0, 0xD0))),
    ("cp949", (range(0xA1, 0xA2), range(0xB0, 0xC9))),
    ("gb18030", (range(0xA1, 0xA4), range(0xB0, 0xD8))),
    ("big5hkscs", (range(0xA1, 0xA4), range(0xA4, 0xC7))),
    ("cp932", (range(0x81, 0x84), range(0x88, 0x98))),
)
_SEVERAL_BYTES = {
    "shift_jis": "cp932", "shift_jisx0213": "shift_jisx0213", "sjis": "cp932", "x_sjis": "cp932", "ms_kanji": "cp932", "windows_31j": "cp932", "cp932": "cp932",
    "euc_jp": "euc_jp", "iso_2022_jp": "iso2022_jp_ext", "gb2312": "gb18030", "gbk": "gb18030", "gb18030": "gb18030", "x_gbk": "gb18030",
    "hz_gb_2312": "hz", "big5": "big5hkscs", "big5_hkscs": "big5hkscs", "x_big5": "big5hkscs", "cp950": "cp950", "euc_kr": "cp949",
    "ks_c_5601_1987": "cp949", "cp949": "cp949", "windows_949": "cp949", "johab": "johab", "iso_2022_kr": "iso2022_kr",
}  # fmt: skip
"""Name → the encoding that holds all that is written under it."""
_KANA, _HANGUL = range(0x3040, 0x3100), range(0xAC00, 0xD7A4)


def of_several_bytes(name: str) -> str | None:
    """The newest form of an encoding that is declared by this name, where it has several bytes for a letter; None for any other."""
    return _SEVERAL_BYTES.get(name.casefold().replace("-", "_"))


def by_decoding(head: bytes) -> str | None:
    """The encoding in which the first bytes of a file are a text; None if they are none in any that is known."""
    if len(head) < _LEAST:
        return None
    wide = max((_as_wide(head, name), name) for name in ("utf-16-le", "utf-16-be"))
    if wide[0] > 0:
        return wide[1]
    if any(byte < 32 and byte not in b"\t\n\x0b\x0c\r\x1a\x1b" for byte in head) or b"\x7f" in head:
        return None
    # Of equally likely ones the first, which more people write.
    found = max([*_many_bytes(head), *_one_byte(head)], key=lambda row: round(row[0], 3), default=None)
    return found[1] if found else None


def _decoded(head: bytes, encoding: str) -> str | None:
    try:
        return codecs.getincrementaldecoder(encoding)("strict").decode(head, False)
    except (UnicodeDecodeError, LookupError):
        return None


def _as_wide(head: bytes, encoding: str) -> float:
    """How many signs that part words and sentences a text of two bytes a letter has; 0 if it is none."""
    text = _decoded(head[: len(head) & ~1], encoding)
    if not text:
        return 0.0
    kinds = sum(unicodedata.category(sign)[0] in _WIDE_KINDS or sign in "\n\r\t" for sign in text)
    rows = {ord(sign) >> 8 for sign in text if not 0x3400 <= ord(sign) < 0xD7A4}
    signs = sum(sign in _WIDE_SIGNS for sign in text)
    if kinds < _WIDE_SHARE * len(text) or len(rows) > _MAX_ROWS or signs < max(1, _SIGN_SHARE * len(text)):
        return 0.0
    return signs / len(text)


def _many_bytes(head: bytes) -> Iterator[tuple[float, str]]:
    """(how likely, the encoding) of those that write a letter of East Asia in two bytes or more."""
    for encoding, leads in _LEADS:
        text = _decoded(head, encoding)
        foreign = [sign for sign in text or "" if ord(sign) > 0x7F]
        if len(foreign) < _LEAST_FOREIGN:
            continue
        written = [sign.encode(encoding, "ignore") for sign in foreign]
        common = sum(len(each) == 2 and any(each[0] in lead for lead in leads) for each in written) / len(foreign)
        kana = sum(ord(sign) in _KANA for sign in foreign) / len(foreign)
        hangul = sum(ord(sign) in _HANGUL for sign in foreign) / len(foreign)
        if common < _COMMON_SHARE:
            continue
        if encoding in ("euc_jp", "cp932"):
            if kana >= 0.15:
                yield common + 0.5, encoding
        elif encoding == "cp949":
            # What is written in Chinese reads as rare syllables here.
            if hangul >= 0.8 and b" " in head:
                yield common + 0.2, encoding
        elif kana < 0.15:
            yield common, encoding


def _one_byte(head: bytes) -> Iterator[tuple[float, str]]:
    """(how likely, the encoding) of those that write each letter of another script in one byte."""
    for script in _SCRIPTS:
        for encoding in script.encodings:
            text = _decoded(head, encoding)
            foreign = [sign for sign in text or "" if ord(sign) > 0x7F]
            letters = [sign for sign in foreign if script.first <= ord(sign) <= script.last]
            if len(letters) < max(_LEAST_FOREIGN, _SCRIPT_SHARE * len(foreign)):
                continue
            small: Sequence[str] = [sign for sign in letters if not sign.isupper()]
            common = sum(sign.lower() in script.common for sign in letters) / len(letters)
            if common >= script.share and len(small) >= _LOWER_SHARE * len(letters):
                yield common * 0.9 + 0.1 * len(small) / len(letters), encoding
