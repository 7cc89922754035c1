"""A quick proof that an XML part is well-formed, for what most parts are made of; all else is left to the full parser.

Office programs write plain elements, attributes and text in UTF-8, and repeat the same tags thousands of times: each
different tag is looked at once. Whatever is unusual (comments, CDATA, processing instructions, declarations of types, other encodings, names
beyond ASCII) or wrong is not judged here: `tokens` then gives None, and the full parser decides. Source: W3C XML 1.0
(fifth edition), productions 2 (characters), 39 to 44 (elements), 67 (references); W3C Namespaces in XML 1.0, section 5.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from functools import lru_cache

OPEN, SINGLE, CLOSE = 0, 1, 2
Token = tuple[int, bytes, str, bytes, str, frozenset[bytes], frozenset[bytes]]
"""Kind, name, local name, raw attributes, text that follows, prefixes used, prefixes declared."""

_NAME = rb"[A-Za-z_][A-Za-z0-9_.\-]*(?::[A-Za-z_][A-Za-z0-9_.\-]*)?"
_DECLARATION = re.compile(
    rb"\?xml version=[\"']1\.0[\"'](?: encoding=[\"'][Uu][Tt][Ff]-8[\"'])?(?: standalone=[\"'](?:yes|no)[\"'])?\s*\?>\s*"
)
_TOKEN = re.compile(
    rb"(/?)(" + _NAME + rb")((?:[ \t\r\n]+" + _NAME + rb"=(?:\"[^\"]*\"|'[^']*'))*)[ \t\r\n]*(/?)>(.*)", re.DOTALL
)
_ATTRIBUTE = re.compile(rb"(" + _NAME + rb")=(?:\"([^\"]*)\"|'([^']*)')")
_ATTRIBUTE_TEXT = re.compile(_ATTRIBUTE.pattern.decode())
_REFERENCE = re.compile(rb"&(?:amp|lt|gt|quot|apos|#(?:9|10|13|3[2-9]|[4-9][0-9]|[1-9][0-9]{2,3}));")
_CODE = re.compile(r"&(amp|lt|gt|quot|apos|#[0-9]+);")
_NAMED = {"amp": "&", "lt": "<", "gt": ">", "quot": '"', "apos": "'"}
_CONTROLS = bytes(n for n in range(32) if n not in (9, 10, 13))
_KEPT, _LONGEST, _ATTRIBUTES = 20_000, 200, 8_192
_seen: dict[bytes, Token] = {}
_whole: set[tuple[int, int]] = set()


def known(data: bytes) -> bool:
    """Whether these very bytes were proved well-formed in this run: styles and themes repeat from document to document.

    They are known by Python's keyed hash (64 bits, another key in each run) together with the length.
    """
    return (hash(data), len(data)) in _whole


def remember(data: bytes) -> None:
    """Note that these bytes are well-formed."""
    if len(_whole) >= _KEPT:
        _whole.clear()
    _whole.add((hash(data), len(data)))


def attributes(raw: bytes) -> Mapping[str, str]:
    """Local name → value of a token's raw attributes; declarations of namespaces are left out. Not to be changed: shared."""
    return _attributes(raw) if len(raw) <= _LONGEST else _attributes.__wrapped__(raw)


@lru_cache(_ATTRIBUTES)
def _attributes(raw: bytes) -> Mapping[str, str]:
    text = raw.decode("utf-8")
    plain = "&" not in text and "\n" not in text and "\t" not in text and "\r" not in text
    return {
        name.rpartition(":")[2]: (double or single) if plain else _plain(double or single, " ")
        for name, double, single in _ATTRIBUTE_TEXT.findall(text)
        if not name.startswith("xmlns")
    }


def _plain(text: str, line_end: str) -> str:
    """Text as a program sees it: line ends in one form (white space of attributes is `line_end`), references replaced."""
    if "\r" in text or line_end != "\n":
        text = text.replace("\r\n", "\n").replace("\r", "\n")
        if line_end != "\n":
            text = text.replace("\n", line_end).replace("\t", line_end)
    if "&" in text:
        text = _CODE.sub(lambda m: _NAMED.get(m[1]) or chr(int(m[1][1:])), text)
    return text


def _token(raw: bytes) -> Token | None:
    found = _TOKEN.fullmatch(raw)
    if found is None:
        return None
    close, name, attrs, single, tail = found.groups()
    if close and (attrs or single):
        return None
    used, declared = set(), set()
    prefix, colon, _ = name.partition(b":")
    if colon:
        used.add(prefix)
    if attrs:
        keys = [key for key, _, _ in _ATTRIBUTE.findall(attrs)]
        if len(set(keys)) != len(keys):
            return None
        for key in keys:
            prefix, colon, rest = key.partition(b":")
            if prefix == b"xmlns":
                declared.add(rest)
            elif colon:
                used.add(prefix)
    local = name.rpartition(b":")[2].decode()
    kind = CLOSE if close else SINGLE if single else OPEN
    return (
        kind,
        name,
        local,
        attrs,
        _plain(tail.decode("utf-8"), "\n") if tail else "",
        frozenset(used),
        frozenset(declared),
    )


def tokens(data: bytes) -> list[Token] | None:
    """The tokens of a part that is certainly well-formed, in order; None if that cannot be said quickly."""
    if data.startswith(b"\xef\xbb\xbf"):
        data = data[3:]
    if b"]]>" in data or len(data.translate(None, _CONTROLS)) != len(data):
        return None
    if b"&" in data and data.count(b"&") != len(_REFERENCE.findall(data)):
        return None
    if not data.isascii():
        try:
            data.decode("utf-8")
        except UnicodeDecodeError:
            return None
        if b"\xef\xbf\xbe" in data or b"\xef\xbf\xbf" in data:
            return None
    raws = data.split(b"<")
    if raws[0].strip() or len(raws) < 2:
        return None
    first = 1
    if raws[1].startswith(b"?"):
        if raws[0] or _DECLARATION.fullmatch(raws[1]) is None:
            return None
        first = 2
    del raws[:first]
    found = _look_up(raws)
    if found is None:
        return None
    out = list(map(found.__getitem__, raws))
    if not out or not _balanced(out) or out[-1][4].strip(" \t\r\n"):
        return None
    used = frozenset[bytes]().union(*(token[5] for token in found.values()))
    return out if used <= out[0][6] | {b"xml"} or _bound(out) else None


def _look_up(raws: Iterable[bytes]) -> dict[bytes, Token] | None:
    """Each different token, taken apart; None if one is unusual or wrong."""
    found: dict[bytes, Token] = {}
    for raw in set(raws):
        token = _seen.get(raw)
        if token is None:
            token = _token(raw)
            if token is None:
                return None
            if len(raw) <= _LONGEST:
                if len(_seen) >= _KEPT:
                    _seen.clear()
                _seen[raw] = token
        found[raw] = token
    return found


def _balanced(found: list[Token]) -> bool:
    """Whether every element is closed by its own name, and one holds all others."""
    stack: list[bytes] = []
    push, pop = stack.append, stack.pop
    last = len(found) - 1
    for at, token in enumerate(found):
        kind = token[0]
        if kind == OPEN:
            push(token[1])
        elif kind == CLOSE:
            if not stack or pop() != token[1] or (not stack and at != last):
                return False
        elif not stack and at != last:
            return False
    return not stack


def _bound(found: list[Token]) -> bool:
    """Whether every prefix is declared by an element around it, where not all are declared by the first."""
    scopes = [frozenset((b"xml",))]
    for kind, _, _, _, _, used, declared in found:
        scope = scopes[-1] | declared if declared else scopes[-1]
        if not used <= scope:
            return False
        if kind == OPEN:
            scopes.append(scope)
        elif kind == CLOSE:
            scopes.pop()
    return True
