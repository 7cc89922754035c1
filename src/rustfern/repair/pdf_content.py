"""What stands in a page of a PDF, operator by operator: only what the format knows is kept.

Source: ISO 32000-1: 7.3 (operands), 7.8.2 (content streams), 8.9.7 (inline images), annex A (operators).
"""

from __future__ import annotations

import re

# Nothing is taken back once it was taken (`+` behind a count, `(?>`): else an array that never closes costs all ways to part its digits.
_NUMBER = rb"[+-]?(?:\d+\.?\d*|\.\d+)"
_NAME = rb"/[^\x00\s()<>\[\]{}/%]*"
_INNER = rb"\((?:[^()\\]|\\[\s\S]){0,8192}+\)"
_TEXT = rb"\((?:[^()\\]|\\[\s\S]|" + _INNER + rb"){0,8192}+\)"
_HEX = rb"<[0-9A-Fa-f\s]{0,8192}+>"
_ITEM = rb"(?>" + rb"|".join((_NUMBER, _NAME, _TEXT, _HEX)) + rb")"
_TOKEN = re.compile(
    rb"(?P<blank>[\x00\s]+|%[^\r\n]*)"
    rb"|(?P<facts><<(?:[^<>()]|"
    + _TEXT
    + rb"|"
    + _HEX
    + rb"|<<(?:[^<>()]|"
    + _TEXT
    + rb"|"
    + _HEX
    + rb"){0,999}+>>){0,9999}+>>)"
    rb"|(?P<array>\[\s*(?:" + _ITEM + rb"\s*+){0,9999}+\])"
    rb"|(?P<text>" + _TEXT + rb"|" + _HEX + rb")"
    rb"|(?P<name>" + _NAME + rb")"
    rb"|(?P<number>" + _NUMBER + rb")(?=[\x00\s()<>\[\]/%]|$|[A-Za-z])"
    rb"|(?P<operator>[A-Za-z'\"][A-Za-z0-9]*\*?)(?=[\x00\s()<>\[\]/%]|$)"
)
# The kinds of operands of each operator: n a number, 1 a digit, N a name, t a text, a an array, p a name or facts, and * any colour.
_KNOWN: dict[bytes, str] = {
    **dict.fromkeys(b"b B b* B* f F f* n s S h W W* q Q BT ET EMC BX EX T*".split(), ""),
    **dict.fromkeys(b"G g i M w Tc TL Ts Tw Tz".split(), "n"),
    **dict.fromkeys(b"J j Tr".split(), "1"),
    **dict.fromkeys(b"l m Td TD d0".split(), "nn"),
    **dict.fromkeys(b"RG rg".split(), "nnn"),
    **dict.fromkeys(b"K k re v y".split(), "nnnn"),
    **dict.fromkeys(b"c cm d1 Tm".split(), "nnnnnn"),
    **dict.fromkeys(b"CS cs Do gs ri sh BMC MP".split(), "N"),
    **dict.fromkeys(b"BDC DP".split(), "Np"),
    **dict.fromkeys(b"SC sc SCN scn".split(), "*"),
    b"Tf": "Nn",
    b"Tj": "t",
    b"'": "t",
    b'"': "nnt",
    b"TJ": "a",
    b"d": "an",
}
_KINDS = {"number": "n", "name": "N", "text": "t", "array": "a", "facts": "p"}
_MOST_OPERANDS = 33
_FROM_A_POINT = frozenset((b"l", b"c", b"v", b"y", b"h"))
_PAINTS = frozenset(b"b B b* B* f F f* n s S".split())
_MOST_FAULTS = 10_000
_IMAGE = re.compile(rb"BI\s[\s\S]{0,4096}?\sID\s")
_IMAGE_END = re.compile(rb"\sEI(?=[\x00\s]|$)")


def whole_operators(plain: bytes) -> bytes:
    """Content up to its last whole operator, without what no operator is; its text, marked content and graphics states closed.

    A wrong bit turns a number or an operator into something that programs complain of: that operation is left out, and those behind it stay.
    """
    out: list[bytes] = []
    operands: list[tuple[str, bytes]] = []
    at, states, marked, faults = 0, 0, 0, 0
    in_text = has_point = False
    while at < len(plain) and faults < _MOST_FAULTS:
        found = _TOKEN.match(plain, at)
        if found is None or found.end() == at:
            operands.clear()
            at, faults = at + 1, faults + 1
            continue
        kind, begin, at = found.lastgroup or "", at, found.end()
        if found[0] == b"BI":
            head = _IMAGE.match(plain, begin)
            end = _IMAGE_END.search(plain, head.end()) if head is not None else None
            if end is None:
                faults += _MOST_FAULTS // 10
                continue
            out.append(plain[begin : end.end()])
            at = end.end()
            operands.clear()
        elif kind == "operator":
            if (used := _fitting(found[0], operands)) is not None:
                name = found[0]
                if not _is_in_place(name, in_text) or (name in _FROM_A_POINT and not has_point):
                    operands.clear()
                    continue
                has_point = name in (b"m", b"re") or (has_point and name not in _PAINTS)
                out.append(b" ".join((*used, name)))
                states += (name == b"q") - (name == b"Q")
                marked += (name in (b"BMC", b"BDC")) - (name == b"EMC")
                in_text = name == b"BT" or (in_text and name != b"ET")
            operands.clear()
        elif kind != "blank":
            operands = [*operands[-_MOST_OPERANDS:], (_KINDS[kind], found[0])]
    out += [b"ET"] * in_text + [b"EMC"] * max(marked, 0) + [b"Q"] * max(states, 0)
    return b"\n".join(out) + b"\n"


def _fitting(operator: bytes, operands: list[tuple[str, bytes]]) -> list[bytes] | None:
    """The operands that this operator takes; None where they are not there, or no such operator is known."""
    wanted = _KNOWN.get(operator)
    if wanted is None:
        return None
    if wanted == "*":
        kept = [(kind, told) for kind, told in operands if kind in "nN"]
        fits = bool(kept) and all(kind == "n" for kind, _ in kept[:-1])
        return [told for _, told in kept] if fits else None
    kept = operands[len(operands) - len(wanted) :] if wanted else []
    if len(operands) < len(wanted) or any(
        not _is_one(kind, told, want) for (kind, told), want in zip(kept, wanted, strict=True)
    ):
        return None
    return [told for _, told in kept]


def _is_one(kind: str, told: bytes, wanted: str) -> bool:
    if wanted == "p":
        return kind in "Np"
    return len(told) == 1 and told.isdigit() if wanted == "1" else kind == wanted


def _is_in_place(operator: bytes, in_text: bool) -> bool:
    """A text begins outside of a text, and ends and shows inside of one (9.4.1)."""
    if operator == b"BT":
        return not in_text
    return in_text or operator not in (b"ET", b"Tj", b"TJ", b"'", b'"', b"Td", b"TD", b"Tm", b"T*")
