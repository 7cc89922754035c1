"""XML parts of packages: well-formed to the end, entities refused, text and attributes handed on.

Parts of the usual size are proved well-formed by their tokens, which is quick; unusual and wrong ones, and large ones, are streamed
through expat, which says what is wrong and where.

Source: W3C XML 1.0 (fifth edition), section 2.1 (well-formed documents) and 4.1 (entities, refused here).
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import chain
from typing import Any
from xml.parsers import expat

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.office import xml_fast
from rustfern.formats.text import encodings

Attributes = Mapping[str, str]
_MAX_DEPTH, _TOO_DEEP = 2_000, 100_000
_AT_ONCE = 4 << 20
"""Parts up to this many bytes are held whole."""
_SKIMMED = 16 << 10
"""Bytes of a part after which a listener that skims may have heard enough."""


class Handler:
    """Base of what listens to an XML part. Names are local names: prefixes differ between producers.

    `wanted` names the only elements that it listens to (their text, and all other text, always arrives); None: to all. `looked_at` names
    those whose attributes it looks at; None: all that are wanted.
    """

    wanted: frozenset[str] | None = None
    looked_at: frozenset[str] | None = None
    skims = False
    """Whether it may have heard `enough` before the end of a part."""

    def enough(self) -> bool:
        """Whether what follows makes no difference to it: then only the part's form is looked at."""
        return False

    def whole(self, data: bytes) -> bool:
        """Take a whole part that is well-formed; False if it has to be told element by element."""
        return False

    piece_end = item_end = b""
    """What ends a piece of a large part that it may take at once, and what ends one item in it; empty where it takes none."""

    def understood(self, data: bytes, *, first: bool) -> Any:
        """What a piece of a part says, to be handed to `take` if the piece is well-formed; None if it has to be told element by element."""
        return None

    def take(self, found: Any) -> None:
        """Take what `understood` gave."""

    def start(self, tag: str, attributes: Attributes) -> None:
        """An element begins."""

    def end(self, tag: str) -> None:
        """An element ends."""

    def text(self, text: str) -> None:
        """Character data."""


WHOLE = "document"
"""The name for a document that is one XML file, no part of a package."""
_MAX_ENTITIES, _MAX_ENTITY = 1_000, 1_024
DECLARED = re.compile(rb"<\?xml\s[^>]{0,200}?\bencoding\s*=\s*[\"']([A-Za-z][A-Za-z0-9._-]*)[\"']")
_IN_FOUR_BYTES = {
    b"\0\0\xfe\xff": "utf-32",
    b"\xff\xfe\0\0": "utf-32",
    b"\0\0\0<": "utf-32-be",
    b"<\0\0\0": "utf-32-le",
}
_NEWER = re.compile(rb"(?:\xef\xbb\xbf)?<\?xml\s+version=[\"']1\.1")
_BAD_REFERENCE = expat.errors.codes[expat.errors.XML_ERROR_BAD_CHAR_REF]
_UNDEFINED = expat.errors.codes[expat.errors.XML_ERROR_UNDEFINED_ENTITY]
_NAMED = re.compile(r"&([^#;&\s][^;&\s]*);")
_MAX_NESTED = 8
_GROWN = 43
"""What expat says of a text that grows by its entities far beyond what was read."""
"""Internal entities (XML 1.0, section 4.3): those of an external subset are not fetched."""


def _grown(name: str, values: Mapping[str, str], known: dict[str, int], depth: int) -> int:
    """Letters that an entity stands for with those that it names; beyond all measure where they name one another too deep. `known` holds those of others."""
    if name in known:
        return known[name]
    value = values.get(name, "")
    length = len(value)
    for each in _NAMED.findall(value):
        if length <= _MAX_ENTITY and each in values:
            length += _grown(each, values, known, depth - 1) if depth else _MAX_ENTITY
    known[name] = length
    return length


class Undefined(Malformed):
    """A text names others (entities) that it does not define: those of the document that it is a part of, or of a type that is not at hand."""


def run_defined_elsewhere(chunks: Iterable[bytes], part: str) -> None:
    """Parse a part that may name texts which it does not define. Raises `Malformed`."""
    _stream(chunks, None, part, foreign=True)


def run(chunks: Iterable[bytes], handler: Handler | None, part: str, *, partial: bool = False) -> None:
    """Parse a part to its end. Raises `Malformed` (`Undefined`) where it is not well-formed; `partial` stops there quietly."""
    if partial:
        _stream(chunks, handler, part, partial=True)
        return
    source = iter(chunks)
    held: list[bytes] = []
    size = 0
    for chunk in source:
        held.append(chunk)
        size += len(chunk)
        if size > _AT_ONCE:
            _stream(chain(held, source), handler, part)
            return
    data = b"".join(held)
    if handler is not None and handler.skims and size > _SKIMMED:
        _stream((data[:_SKIMMED], data[_SKIMMED:]), handler, part)
    elif handler is None:
        if xml_fast.known(data):
            return
        if xml_fast.tokens(data) is None:
            _stream((data,), None, part)
        xml_fast.remember(data)
    elif (found := xml_fast.tokens(data)) is None:
        _stream((data,), handler, part)
    elif not handler.whole(data):
        _tell(found, handler)


def _tell(found: Iterable[xml_fast.Token], handler: Handler) -> None:
    """Hand the tokens of a part to its listener."""
    begin, finish, say, wanted, looked_at = handler.start, handler.end, handler.text, handler.wanted, handler.looked_at
    nothing: Attributes = {}
    for kind, _, tag, raw, text, _, _ in found:
        if wanted is None or tag in wanted:
            if kind == xml_fast.CLOSE:
                finish(tag)
            else:
                look = raw and (looked_at is None or tag in looked_at)
                begin(tag, xml_fast.attributes(raw) if look else nothing)
                if kind == xml_fast.SINGLE:
                    finish(tag)
        if text:
            say(text)


def _stream(
    chunks: Iterable[bytes], handler: Handler | None, part: str, *, partial: bool = False, foreign: bool = False
) -> None:
    # A file of its own may use a prefix that it never explains (XML 1.0, 2.1), and a list of parts one that only its document type does.
    plain = part == WHOLE or part.endswith("manifest.xml")
    sign = ":" if plain else " "
    chunks, encoding = _in_utf8(chunks, part)
    parser = expat.ParserCreate(encoding) if plain else expat.ParserCreate(encoding, namespace_separator=sign)
    if foreign:
        parser.UseForeignDTD(True)
    depth = near = 0
    newer = False
    fed = 0
    untold: list[bytes] = []

    if handler is not None:
        parser.buffer_text = True
        parser.buffer_size = 1 << 16
        begin, finish, say = handler.start, handler.end, handler.text
        # Names repeat a thousand times: each is taken apart once.
        local: dict[str, str] = {}

        def on_start(name: str, attributes: Attributes) -> None:
            nonlocal depth
            depth += 1
            if depth > _MAX_DEPTH:
                raise Malformed(f"part {part} is nested too deep")
            tag = local.get(name)
            if tag is None:
                tag = local[name] = name.rpartition(sign)[2]
            if attributes:
                for key in attributes:
                    if sign in key:
                        attributes = {k.rpartition(sign)[2]: value for k, value in attributes.items()}
                        break
            begin(tag, attributes)

        def on_end(name: str) -> None:
            nonlocal depth
            depth -= 1
            # What was open when listening began is not known by its name.
            finish(local.get(name) or name.rpartition(sign)[2])

        def listen() -> None:
            parser.StartElementHandler = on_start
            parser.EndElementHandler = on_end
            parser.CharacterDataHandler = say

        if handler.piece_end:
            chunks = _in_pieces(chunks, handler, listen, untold)
        else:
            listen()

    entities = 0
    values: dict[str, str] = {}

    def declared(name: str, is_parameter: bool, value: str | None, *_: object) -> None:
        # Short ones are what drawing programs and handbooks write; those that hold others could grow without end.
        nonlocal entities
        entities += 1
        if value is not None and not is_parameter:
            values.setdefault(name, value)
        # Parts of packages declare none (ECMA-376-2, 9.1.4).
        if part != WHOLE or entities > _MAX_ENTITIES or len(value or "") > _MAX_ENTITY:
            raise Refused(f"part {part} declares entities: refused")

    def all_declared() -> None:
        known: dict[str, int] = {}
        if any(_grown(name, values, known, _MAX_NESTED) > _MAX_ENTITY for name in values):
            raise Refused(f"part {part} declares entities: refused")

    parser.EntityDeclHandler = declared
    parser.EndDoctypeDeclHandler = all_declared
    try:
        for chunk in chunks:
            newer = newer or (parser.CurrentByteIndex <= 0 and bool(_NEWER.match(chunk)))
            parser.Parse(chunk, False)
            fed += len(chunk)
            if handler is not None and handler.enough():
                handler = parser.StartElementHandler = parser.EndElementHandler = parser.CharacterDataHandler = None
            # Without a listener the elements are not counted one by one: about so many are open.
            near += chunk.count(b"<") - 2 * chunk.count(b"</") - chunk.count(b"/>")
            if near > _TOO_DEEP // 2:
                near -= chunk.count(b"<!") + chunk.count(b"<?")
            if near > _TOO_DEEP:
                raise Refused(f"part {part} is nested too deep: refused")
        parser.Parse(b"", not partial)
    except (LookupError, ValueError) as error:
        # An encoding that nobody knows is named in the declaration.
        if not partial:
            raise Malformed(f"part {part} is written in an unknown way ({error})") from error
    except expat.ExpatError as error:
        if untold and handler is not None:
            _tell_before(untold[0][: max(parser.CurrentByteIndex - fed, 0)], handler, first=not fed)
        if partial:
            return
        if error.code == _GROWN:
            raise Refused(f"part {part} declares entities: refused") from error
        if newer and error.code == _BAD_REFERENCE:
            raise Refused(f"part {part} is XML 1.1 with control characters: reading it was refused") from error
        raise (Undefined if error.code == _UNDEFINED else Malformed)(
            f"part {part} is not well-formed XML: {expat.ErrorString(error.code)} in line {error.lineno}",
            max(parser.CurrentByteIndex, 0) if encoding is None else None,
        ) from error


def _in_utf8(chunks: Iterable[bytes], part: str) -> tuple[Iterable[bytes], str | None]:
    """A part in an encoding of several bytes a letter (Appendix F; the parser knows none of them), as UTF-8; any other as it is. Also the encoding that counts.

    Of encodings that grew, the newest is read, as programs do (the Encoding standard of web pages, 4.2).
    """
    source = iter(chunks)
    first = next(source, b"")
    found = DECLARED.match(first)
    codec = encodings.of_several_bytes(found[1].decode("ascii")) if found else _IN_FOUR_BYTES.get(first[:4])
    if codec is None:
        return chain((first,), source), None

    def decoded() -> Iterator[bytes]:
        decoder = codecs.getincrementaldecoder(codec)("strict")
        at = 0
        for chunk in chain((first,), source, (b"",)):
            try:
                yield decoder.decode(chunk, not chunk).encode("utf-8")
            except UnicodeDecodeError as error:
                raise Malformed(f"part {part} has a cut or impossible character", at + error.start) from error
            at += len(chunk)

    return decoded(), "utf-8"


def _in_pieces(
    chunks: Iterable[bytes], handler: Handler, listen: Callable[[], None], untold: list[bytes]
) -> Iterator[bytes]:
    """Hand a part on in pieces that its listener takes at once when they turned out to be well-formed; from the first that it does not understand
    on it is told element by element (`listen`). `untold` holds the piece that is being looked at.
    """
    held, end, first, quick = b"", handler.piece_end, True, True
    for chunk in chunks:
        if not quick:
            yield chunk
            continue
        held += chunk
        cut = held.rfind(end) + len(end)
        if cut < len(end) and len(held) < _AT_ONCE:
            continue
        piece, found = held[:cut], None
        if cut >= len(end):
            found = handler.understood(piece, first=first)
        if found is None:
            quick = False
            listen()
            yield held
            held = b""
            continue
        held = held[cut:]
        untold.append(piece)
        yield piece
        untold.clear()
        handler.take(found)
        first = False
    if held:
        listen()
        yield held


def _tell_before(data: bytes, handler: Handler, *, first: bool) -> None:
    """Tell what stands in front of damage."""
    end = data.rfind(handler.item_end) + len(handler.item_end)
    found = handler.understood(data[:end], first=first)
    if found is not None:
        handler.take(found)


class Collect(Handler):
    """Collects the text of every element whose local name is asked for; the first of each."""

    looked_at = frozenset()

    def __init__(self, wanted: Iterable[str]) -> None:
        self.values: dict[str, str] = {}
        self.wanted: frozenset[str] = frozenset(wanted)
        self._current: str | None = None

    def start(self, tag: str, attributes: Attributes) -> None:
        if tag in self.wanted and tag not in self.values:
            self._current = tag
            self.values[tag] = ""

    def end(self, tag: str) -> None:
        if tag == self._current:
            self._current = None

    def text(self, text: str) -> None:
        if self._current is not None:
            self.values[self._current] += text


class Elements(Handler):
    """Calls back with (local name, attributes) of each element."""

    def __init__(self, callback: Callable[[str, Attributes], None]) -> None:
        self._callback = callback

    def start(self, tag: str, attributes: Attributes) -> None:
        self._callback(tag, attributes)
