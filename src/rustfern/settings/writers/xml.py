"""Settings in XML, changed at the bytes that hold them: the ODF suite's user settings, configuration files, property lists.

Sources: XML 1.0; the suite's `registrymodifications.xcu` as written; the property list DTD 1.0.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from xml.parsers import expat

import msgspec

from rustfern.settings.writers.interface import CannotWrite, SetElsewhere, Wanted

_SEGMENT = re.compile(r"(?P<tag>[^\[\]]+)(?:\[(?P<by>[\w:.-]+)=(?P<name>[^\]]*)\])?")
_MOST_ELEMENTS = 400_000
_ATTRIBUTE = re.compile(rb"""\s([^\s=/>]++)\s*+=\s*("[^"]*"|'[^']*')""")


def escape(text: str) -> str:
    """Character data of XML (1.0, 2.4)."""
    return text.replace("&", "&amp;").replace(">", "&gt;").replace("<", "&lt;")


def quoteattr(text: str) -> str:
    """A value of an attribute of XML in its quotes (1.0, 2.3 and 3.3.3: line ends and tabs would become blanks)."""
    text = escape(text).replace("\n", "&#10;").replace("\r", "&#13;").replace("\t", "&#9;")
    if '"' not in text:
        return f'"{text}"'
    return f"'{text}'" if "'" not in text else '"{}"'.format(text.replace('"', "&quot;"))


class _Element(msgspec.Struct):
    """An element: its tag, attributes, the bytes of its start tag, where its end tag begins and ends, its parent's number."""

    tag: str
    attributes: dict[str, str]
    start: int
    inner: int
    parent: int
    close: int = -1
    end: int = -1
    text: str = ""

    @property
    def is_single(self) -> bool:
        """Whether it is written `<a/>`."""
        return self.close == self.inner == self.end


def _elements(data: bytes) -> list[_Element]:
    """All elements of a document in UTF-8, in order. Raises `CannotWrite`."""
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise CannotWrite("it is XML in another encoding than UTF-8")
    found: list[_Element] = []
    path: list[int] = []
    parser = expat.ParserCreate()

    def start(tag: str, attributes: dict[str, str]) -> None:
        at = parser.CurrentByteIndex
        if len(found) >= _MOST_ELEMENTS:
            raise CannotWrite("it has too many elements")
        path.append(len(found))
        found.append(_Element(tag, attributes, at, _end_of_tag(data, at), path[-2] if len(path) > 1 else -1))

    def end(_tag: str) -> None:
        element = found[path.pop()]
        at = parser.CurrentByteIndex
        if data[element.inner - 2 : element.inner] == b"/>":
            element.close = element.end = element.inner
        else:
            element.close, element.end = at, data.index(b">", at) + 1

    def characters(text: str) -> None:
        if path:
            found[path[-1]].text += text

    def declared(version: str, encoding: str | None, standalone: int) -> None:
        if encoding and encoding.casefold() not in ("utf-8", "utf8", "us-ascii"):
            raise CannotWrite(f"it is XML in {encoding}, not in UTF-8")

    def refuse(*_: object) -> None:
        raise CannotWrite("it declares entities")

    parser.StartElementHandler, parser.EndElementHandler = start, end
    parser.CharacterDataHandler, parser.XmlDeclHandler, parser.EntityDeclHandler = characters, declared, refuse
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise CannotWrite(f"it stops being XML ({expat.ErrorString(error.code)})") from error
    except (ValueError, LookupError) as error:
        raise CannotWrite(f"it is written in an unknown way ({error})") from error
    return found


def _end_of_tag(data: bytes, at: int) -> int:
    quote = 0
    for position in range(at, len(data)):
        byte = data[position]
        if quote:
            quote = 0 if byte == quote else quote
        elif byte in b"\"'":
            quote = byte
        elif byte == 0x3E:
            return position + 1
    raise CannotWrite("a tag has no end")


def _edited(data: bytes, edits: Sequence[tuple[int, int, bytes]]) -> bytes:
    """Bytes with spans replaced, from the last to the first."""
    for start, end, new in sorted(edits, reverse=True):
        data = data[:start] + new + data[end:]
    return data


def _text(value: bool | int | str) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


# --- the ODF office suite ---------------------------------------------------------------------------------------------


def xcu(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """`<item oor:path=KEY><prop oor:name=NAME><value>…`: a value that is there several times is set everywhere."""
    for each in wanted:
        data = _with_property(data, each)
    return data


def _with_property(data: bytes, wanted: Wanted) -> bytes:
    elements = _elements(data)
    if not elements or not elements[0].tag.endswith("items"):
        raise CannotWrite("it does not begin as these settings do")
    new = f"<value>{escape(_text(wanted.value))}</value>".encode()
    edits = []
    for number, element in enumerate(elements):
        if element.tag != "prop" or element.attributes.get("oor:name") != wanted.name or element.parent < 0:
            continue
        item = elements[element.parent]
        if item.attributes.get("oor:path") != wanted.key:
            continue
        if "true" in (element.attributes.get("oor:finalized"), item.attributes.get("oor:finalized")):
            raise SetElsewhere(f"an administrator fixed {wanted.name}")
        values = [inner for inner in elements if inner.parent == number and inner.tag == "value"]
        edits += [(value.start, value.end, new) for value in values]
        if not values and not element.is_single:
            edits.append((element.inner, element.inner, new))
        elif not values:
            edits.append((element.inner - 2, element.inner, b">" + new + b"</prop>"))
    if edits:
        return _edited(data, edits)
    ending = "\r\n" if b"\r\n" in data else "\n"
    made = f'<item oor:path={quoteattr(wanted.key)}><prop oor:name={quoteattr(wanted.name)} oor:op="fuse">'.encode()
    made += new + f"</prop></item>{ending}".encode()
    top = elements[0]
    if top.is_single:
        return _edited(data, [(top.inner - 2, top.inner, b">" + made + f"</{top.tag}>".encode())])
    return _edited(data, [(top.close, top.close, made)])


# --- configuration files ----------------------------------------------------------------------------------------------


def named(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """Elements that are told by an attribute: the key is a path of `tag` and `tag[attribute=name]`, the name an attribute of the last one,
    or nothing for its text. Elements that are missing are made; all that fit are set.
    """
    for each in wanted:
        data = _with_named(data, each)
    return data


def _with_named(data: bytes, wanted: Wanted) -> bytes:
    segments = [match for part in wanted.key.split("/") if (match := _SEGMENT.fullmatch(part)) is not None]
    if not data.strip() or len(segments) != wanted.key.count("/") + 1:
        raise CannotWrite("it does not begin as these settings do")
    elements = _elements(data)
    fitting = [0] if _fits(elements[0], segments[0]) else []
    if not fitting:
        raise CannotWrite(f"it does not begin with <{segments[0]['tag']}> as these settings do")
    for depth, segment in enumerate(segments[1:], 1):
        parents = set(fitting)
        inner = [n for n, each in enumerate(elements) if each.parent in parents and _fits(each, segment)]
        if not inner:
            return _with_child(data, elements, min(fitting), segments[depth:], wanted)
        fitting = inner
    edits = []
    for number in fitting:
        edits.append(_value_of(data, elements, number, wanted))
    return _edited(data, edits)


def _fits(element: _Element, segment: re.Match[str]) -> bool:
    return element.tag == segment["tag"] and (
        segment["by"] is None or element.attributes.get(segment["by"]) == segment["name"]
    )


def _value_of(data: bytes, elements: list[_Element], number: int, wanted: Wanted) -> tuple[int, int, bytes]:
    element = elements[number]
    if not wanted.name:
        if any(each.parent == number for each in elements):
            raise CannotWrite(f"<{element.tag}> holds more than a text")
        text = escape(_text(wanted.value)).encode()
        if element.is_single:
            return element.inner - 2, element.inner, b">" + text + f"</{element.tag}>".encode()
        return element.inner, element.close, text
    new = quoteattr(_text(wanted.value)).encode()
    tag = data[element.start : element.inner]
    for match in _ATTRIBUTE.finditer(tag):
        if match[1].decode("utf-8", "replace") == wanted.name:
            return element.start + match.start(2), element.start + match.end(2), new
    at = element.inner - (2 if tag.endswith(b"/>") else 1)
    return at, at, f" {wanted.name}=".encode() + new


def _with_child(
    data: bytes, elements: list[_Element], parent: int, missing: list[re.Match[str]], wanted: Wanted
) -> bytes:
    """A new element (and those around it) as the last one of its parent, indented as the one before it."""
    made = b""
    for segment in reversed(missing):
        by = f" {segment['by']}={quoteattr(segment['name'])}" if segment["by"] else ""
        value = f" {wanted.name}={quoteattr(_text(wanted.value))}" if not made and wanted.name else ""
        text = escape(_text(wanted.value)).encode() if not made and not wanted.name else made
        start = f"<{segment['tag']}{by}{value}".encode()
        made = start + b">" + text + f"</{segment['tag']}>".encode() if text else start + b"/>"
    above = elements[parent]
    if above.is_single:
        return _edited(data, [(above.inner - 2, above.inner, b">" + made + f"</{above.tag}>".encode())])
    siblings = [each for each in elements if each.parent == parent]
    at = siblings[-1].end if siblings else above.inner
    gap = re.search(rb"\s*\Z", data[: siblings[-1].start])[0] if siblings else b""  # type: ignore[index]
    return _edited(data, [(at, at, gap + made)])


# --- property lists ---------------------------------------------------------------------------------------------------


def plist(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """Entries of the outermost dictionary. The text form keeps all its other bytes; the binary form is written anew with equal values."""
    import plistlib

    if data.startswith(b"bplist"):
        try:
            tree = plistlib.loads(data)
        except Exception as error:  # the parser raises several kinds
            raise CannotWrite(f"the property list cannot be read ({type(error).__name__})") from error
        if not isinstance(tree, dict):
            raise CannotWrite("the property list is no dictionary")
        tree |= {each.name: each.value for each in wanted}
        return plistlib.dumps(tree, fmt=plistlib.FMT_BINARY, sort_keys=False)
    for each in wanted:
        data = _with_entry(data, each)
    return data


def _with_entry(data: bytes, wanted: Wanted) -> bytes:
    elements = _elements(data)
    top = next((number for number, each in enumerate(elements) if each.tag == "dict" and each.parent == 0), None)
    if top is None:
        raise CannotWrite("the property list is no dictionary")
    if isinstance(wanted.value, bool):
        new = b"<true/>" if wanted.value else b"<false/>"
    elif isinstance(wanted.value, int):
        new = f"<integer>{wanted.value}</integer>".encode()
    else:
        new = f"<string>{escape(wanted.value)}</string>".encode()
    inner = [each for each in elements if each.parent == top]
    edits = [
        (value.start, value.end, new)
        for key, value in zip(inner[::2], inner[1::2], strict=False)
        if key.tag == "key" and key.text == wanted.name
    ]
    if edits:
        return _edited(data, edits)
    entry = f"<key>{escape(wanted.name)}</key>".encode()
    whole = elements[top]
    if whole.is_single:
        return _edited(data, [(whole.inner - 2, whole.inner, b">" + entry + new + b"</dict>")])
    at = inner[-1].end if inner else whole.inner
    gap = re.search(rb"\s*\Z", data[: inner[-2].start])[0] if len(inner) > 1 else b"\n"  # type: ignore[index]
    return _edited(data, [(at, at, gap + entry + gap + new)])
