"""ODF packages and flat ODF put together again.

Source: OASIS OpenDocument 1.3, part 2 (3.2 manifest, 3.3 mimetype first and stored) and part 3 (3.1 document elements, 5.1 paragraphs, 9.1 tables,
10.2.4 pages of drawings, 10.4.2 frames).
"""

from __future__ import annotations

import re
from typing import BinaryIO

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.package import Package, is_xml, kind_of
from rustfern.repair.xml_mend import Grammar, escaped, first_fault, mend, mend_to_the_end

_TYPES = {
    "odt": "text", "ott": "text-template", "ods": "spreadsheet", "ots": "spreadsheet-template", "odp": "presentation",
    "otp": "presentation-template", "odg": "graphics", "otg": "graphics-template",
}  # fmt: skip
_PREFIX = "application/vnd.oasis.opendocument."
_BASE = "urn:oasis:names:tc:opendocument:xmlns:"
NAMESPACES = {
    name: f"{_BASE}{urn}:1.0"
    for name, urn in {
        "office": "office", "style": "style", "text": "text", "table": "table", "draw": "drawing", "fo": "xsl-fo-compatible", "meta": "meta",
        "number": "datastyle", "svg": "svg-compatible", "chart": "chart", "dr3d": "dr3d", "form": "form", "script": "script",
        "presentation": "presentation", "anim": "animation", "config": "config", "smil": "smil-compatible",
    }.items()
} | {
    "xlink": "http://www.w3.org/1999/xlink", "dc": "http://purl.org/dc/elements/1.1/", "math": "http://www.w3.org/1998/Math/MathML",
    "ooo": "http://openoffice.org/2004/office", "ooow": "http://openoffice.org/2004/writer", "oooc": "http://openoffice.org/2004/calc",
    "of": f"{_BASE}of:1.2", "dom": "http://www.w3.org/2001/xml-events", "xsi": "http://www.w3.org/2001/XMLSchema-instance",
    "loext": "urn:org:documentfoundation:names:experimental:office:xmlns:loext:1.0",
    "calcext": "urn:org:documentfoundation:names:experimental:calc:xmlns:calcext:1.0",
    "officeooo": "http://openoffice.org/2009/office", "tableooo": "http://openoffice.org/2009/table", "drawooo": "http://openoffice.org/2010/draw",
    "field": "urn:openoffice:names:experimental:ooo-ms-interop:xmlns:field:1.0", "rpt": "http://openoffice.org/2005/report",
}  # fmt: skip
_SPACES = " ".join(
    f'xmlns:{name}="{NAMESPACES[name]}"'
    for name in ("office", "style", "text", "table", "draw", "fo", "xlink", "svg", "dc", "number")
)
_HEAD = '<?xml version="1.0" encoding="UTF-8"?>\n'


def _paragraph(text: str) -> bytes:
    return f"<text:p>{escaped(text)}</text:p>".encode()


def _row(text: str) -> bytes:
    return f'<table:table-row><table:table-cell office:value-type="string"><text:p>{escaped(text)}</text:p></table:table-cell></table:table-row>'.encode()


def _box(text: str) -> bytes:
    return (
        '<draw:frame svg:x="2cm" svg:y="17cm" svg:width="20cm" svg:height="1cm"><draw:text-box>'
        f"<text:p>{escaped(text)}</text:p></draw:text-box></draw:frame>"
    ).encode()


_IN_TEXT = (
    b"office:text",
    b"text:section",
    b"table:table-cell",
    b"draw:text-box",
    b"text:list-item",
    b"text:note-body",
    b"office:annotation",
)
_INNER = {
    b"text:p": (
        *_IN_TEXT,
        b"draw:custom-shape",
        b"draw:rect",
        b"draw:ellipse",
        b"draw:line",
        b"draw:path",
        b"draw:polygon",
        b"draw:connector",
    ),
    b"text:h": (*_IN_TEXT,),
    b"text:list": (*_IN_TEXT, b"draw:custom-shape"),
    b"text:list-item": (b"text:list",),
    b"text:span": (b"text:p", b"text:h", b"text:a"),
    b"text:a": (b"text:p", b"text:h"),
    b"text:s": (b"text:p", b"text:h", b"text:span"),
    b"text:tab": (b"text:p", b"text:h", b"text:span"),
    b"text:line-break": (b"text:p", b"text:h", b"text:span"),
    b"table:table-row": (b"table:table", b"table:table-header-rows"),
    b"table:table-cell": (b"table:table-row",),
    b"table:covered-table-cell": (b"table:table-row",),
    b"table:table-column": (b"table:table", b"table:table-columns", b"table:table-header-columns"),
    b"text:section": (b"office:text", b"text:section"),
    b"text:table-of-content": (b"office:text", b"text:section"),
    b"text:index-body": (b"text:table-of-content",),
}
_ATOMIC = frozenset(
    {
        b"office:automatic-styles", b"office:font-face-decls", b"office:scripts", b"text:tracked-changes", b"text:sequence-decls", b"office:forms",
        b"draw:image", b"draw:object", b"office:settings", b"text:table-of-content-source", b"calcext:conditional-formats",
        b"table:shapes", b"office:binary-data", b"table:content-validations",
    }
)  # fmt: skip


def _implied(name: bytes, attributes: bytes) -> bytes:
    return b'<table:table><table:table-column table:number-columns-repeated="8"/>' if name == b"table:table" else b""


def _grammar(root: str, body: str) -> Grammar:
    opening = f'{_HEAD}<office:{root} {_SPACES} office:version="1.2"><office:body><office:{body}>'
    parents: dict[bytes, tuple[bytes, ...]] = dict(_INNER)
    wrap: tuple[bytes, ...]
    top = f"office:{body}".encode()
    if body == "text":
        containers, unit, wrap = {top: _paragraph}, b"text:p", (b"text:p",)
        parents |= {b"table:table": _IN_TEXT, b"draw:frame": (b"text:p", *_IN_TEXT)}
    elif body == "spreadsheet":
        containers, unit, wrap = (
            {b"table:table": _row},
            b"table:table-row",
            (b"table:table-row", b"table:table-cell", b"text:p"),
        )
        parents |= {b"table:table": (top,), b"text:p": (b"table:table-cell", b"draw:text-box", b"office:annotation")}
        opening += '<table:table table:name="Sheet1">'
    else:
        containers, unit, wrap = {b"draw:page": _box}, b"text:p", (b"draw:frame", b"draw:text-box", b"text:p")
        shapes = (b"draw:page", b"draw:g", b"presentation:notes")
        parents |= {
            b"draw:page": (top,), **dict.fromkeys((b"draw:frame", b"draw:g", b"draw:custom-shape", b"draw:rect", b"draw:line", b"draw:ellipse",
            b"draw:path", b"draw:polygon", b"draw:connector"), shapes), b"presentation:notes": (b"draw:page",), b"draw:text-box": (b"draw:frame",),
            b"text:p": (b"draw:text-box", *_INNER[b"text:p"]), b"table:table": (b"draw:frame",),
        }  # fmt: skip
        opening += '<draw:page draw:name="page1" draw:master-page-name="Default">'
    return Grammar(
        opening=opening.encode(), containers=containers, unit=unit, atomic=_ATOMIC, parents=parents, wrap=wrap, namespaces=NAMESPACES,
        needed={b"table:table-row": (b"table:table-cell",)} if body == "text" else {},
        implied=_implied,
    )  # fmt: skip


_BODIES = {
    "t": ("text", "paragraphs"),
    "s": ("spreadsheet", "rows"),
    "p": ("presentation", "paragraphs"),
    "g": ("drawing", "paragraphs"),
}
_OWN = frozenset(("content.xml", "styles.xml", "meta.xml", "settings.xml", "mimetype", "META-INF/manifest.xml"))
_MIMES = {"text": "text", "spreadsheet": "spreadsheet", "presentation": "presentation", "drawing": "graphics"}
_TOP = re.compile(
    rb"<office:(?:meta|settings|scripts|font-face-decls|styles|automatic-styles|master-styles|body)(?=[\s>])"
)
_STYLES = Grammar(
    opening=b"",
    containers={},
    unit=b"style:style",
    atomic=frozenset({b"style:style", b"style:page-layout", b"style:master-page"}),
    namespaces=NAMESPACES,
)


def _body_of(format_name: str, data: bytes) -> tuple[str, str]:
    found = re.search(rb"<office:(text|spreadsheet|presentation|drawing)[\s>]", data)
    if found is not None:
        return next(told for told in _BODIES.values() if told[0] == found[1].decode())
    return _BODIES.get(format_name[-1], _BODIES["t"]) if format_name not in ("ott", "ots") else _BODIES[format_name[2]]


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a whole package. Raises `Malformed`."""
    held = job.whole()
    package = Package(held, job)
    package.rename(_OWN.__contains__)
    told = package.content("mimetype").data if "mimetype" in package.found else b""
    kind = told.decode("ascii", "replace").strip().removeprefix(_PREFIX)
    format_name = next((name for name, each in _TYPES.items() if each == kind), "")
    raw = package.content("content.xml").data if "content.xml" in package.found else b""
    if not format_name:
        format_name = job.format if job.format in _TYPES else _by_body(raw)
    if not any(name in package.found for name in ("content.xml", "styles.xml", "meta.xml", "mimetype", "settings.xml")):
        raise NothingLeft("no part of an ODF document is left in it")
    package.take_missing()
    body, said = _body_of(format_name, raw)
    grammar = _grammar("document-content", body)
    for name in package.found:
        if (
            name.endswith("/")
            or name in ("mimetype", "META-INF/manifest.xml")
            or name.startswith(("Thumbnails/", "Configurations2/", "META-INF/"))
        ):
            continue
        if not is_xml(name):
            if not package.keep(name):
                package.loses(
                    LossKind.PICTURES if name.startswith(("Pictures/", "media/")) else LossKind.PARTS, name, 1
                )
        elif name == "content.xml":
            if not package.keep_xml(name, grammar, said):
                package.loses(LossKind.REST, name)
        elif not package.keep_xml(name, _STYLES if name == "styles.xml" else None, "styles"):
            package.loses(LossKind.PARTS, name, 1)
    if "content.xml" not in package.parts:
        mark = "[the text of the document is missing]" if job.marks else ""
        made = mend([grammar.opening], grammar, complete=False, marks=False).data
        package.parts["content.xml"] = _with_mark(made, grammar, mark, body)
        package.did(Step.SKELETON)
        if not any(loss.where == "content.xml" for loss in package.lost):
            package.loses(LossKind.REST, "content.xml")
    _pictures(package)
    package.parts["mimetype"] = (_PREFIX + _TYPES[format_name]).encode()
    package.parts["META-INF/manifest.xml"] = _manifest(package, format_name)
    package.did(Step.DIRECTORY)
    package.write(out, first=("mimetype",), stored=("mimetype",))
    return Outcome(format_name, tuple(package.steps), tuple(package.lost))


def _by_body(raw: bytes) -> str:
    found = re.search(rb"<office:(text|spreadsheet|presentation|drawing)[\s>]", raw)
    return {b"spreadsheet": "ods", b"presentation": "odp", b"drawing": "odg"}.get(found[1] if found else b"", "odt")


def _with_mark(made: bytes, grammar: Grammar, mark: str, body: str) -> bytes:
    """A content part that holds a mark alone."""
    container, maker = next(iter(grammar.containers.items()))
    end = b"</" + container + b">"
    filler = maker(mark) if mark else (b"<text:p/>" if body == "text" else b"")
    return made.replace(end, filler + end, 1)


def _pictures(package: Package) -> None:
    """Pictures that are named and lost: a mark stands in their place."""
    for name in ("content.xml", "styles.xml"):
        data = package.read(name)
        if b'xlink:href="Pictures/' not in data:
            continue
        count = 0

        def instead(found: re.Match[bytes]) -> bytes:
            nonlocal count
            if found[1].decode("utf-8", "replace") in package.parts:
                return found[0]
            count += 1
            return (
                b"<draw:text-box><text:p>[a picture is missing here]</text:p></draw:text-box>"
                if package.job.marks
                else b"<draw:text-box/>"
            )

        made = re.sub(
            rb"<draw:image\b[^>]*?xlink:href=\"(Pictures/[^\"]+)\"[^>]*?(?:/>|>.*?</draw:image>)",
            instead,
            data,
            flags=re.DOTALL,
        )
        if count:
            package.parts[name] = made
            package.loses(LossKind.PICTURES, name, count)


def _manifest(package: Package, format_name: str) -> bytes:
    kinds = {
        "xml": "text/xml",
        "png": "image/png",
        "jpg": "image/jpeg",
        "jpeg": "image/jpeg",
        "gif": "image/gif",
        "rdf": "application/rdf+xml",
        "svg": "image/svg+xml",
    }
    # Programs refuse a package whose list tells another version than its parts.
    told = (
        re.search(rb'office:version="([\d.]+)"', package.read(name)[:20_000])
        for name in ("content.xml", "styles.xml", "meta.xml")
    )
    version = next((found[1].decode() for found in told if found), "1.2")
    lines = [
        f'<manifest:file-entry manifest:full-path="/" manifest:version="{version}" manifest:media-type="{_PREFIX}{_TYPES[format_name]}"/>'
    ]
    for name in sorted(package.parts):
        if name not in ("mimetype", "META-INF/manifest.xml"):
            kind = kinds.get(name.rpartition(".")[2].casefold(), "application/octet-stream" if "." in name else "")
            lines.append(f'<manifest:file-entry manifest:full-path="{escaped(name)}" manifest:media-type="{kind}"/>')
    return f'{_HEAD}<manifest:manifest xmlns:manifest="{_BASE}manifest:1.0" manifest:version="{version}">{"".join(lines)}</manifest:manifest>'.encode()


def repair_flat(job: Job, out: BinaryIO) -> Outcome:
    """Write a whole flat document. Raises `Malformed`."""
    data = job.data()
    stretches, holes = split_zeros(data)
    body, said = _body_of(job.format, data)
    rooted = _under_a_root(stretches[0], body)
    is_rooted = rooted is not stretches[0]
    is_torn = is_rooted and b"</office:" in stretches[0][: _top_of(stretches[0])]
    stretches[0] = rooted
    holes -= is_rooted and data[:1] == b"\0"
    base = _grammar("document", body)
    mime = f' office:version="1.2" office:mimetype="{_PREFIX}{_MIMES[body]}"'.encode()
    opening = base.opening.replace(b' office:version="1.2"', mime)
    from msgspec.structs import replace

    fault = first_fault(stretches[0])
    complete = not holes and fault is None
    mended = mend_to_the_end(stretches, replace(base, opening=opening), complete=complete, marks=job.marks, said=said)
    if mended is None:
        raise NothingLeft("its markup cannot be put in order")
    if mended.data == data:
        raise NothingLeft("nothing is wrong with it")
    if not re.search(rb"<(?:text:[ph]|table:table-row|draw:\w+)\b", mended.data):
        raise NothingLeft("no text, row or shape of it is left")
    out.write(mended.data)
    # The place is told only where it is one of the damaged file.
    place = -1 if fault is None or is_rooted else fault
    lost: tuple[Loss, ...] = (Loss(kind_of(said), "", mended.missing, place),) if mended.closed else ()
    lost += (Loss(LossKind.STYLES),) if is_torn else ()
    steps = (*((Step.SKELETON,) if is_rooted else ()), Step.CLOSED if mended.closed else Step.CLEANED)
    return Outcome(
        "fod" + {"text": "t", "spreadsheet": "s", "presentation": "p", "drawing": "g"}[body],
        (*steps, *((Step.ZEROS,) if holes else ())),
        lost,
    )


def _under_a_root(data: bytes, body: str) -> bytes:
    """A document whose first tag is lost gets it anew, so that its styles stay."""
    if re.search(rb"<office:document[\s>]", data) or b"<office:body" not in data:
        return data
    begin = _top_of(data)
    spaces = " ".join(f'xmlns:{name}="{uri}"' for name, uri in NAMESPACES.items())
    head = f'{_HEAD}<office:document {spaces} office:version="1.2" office:mimetype="{_PREFIX}{_MIMES[body]}">'
    return head.encode() + data[begin:]


def _top_of(data: bytes) -> int:
    """Where the first element below the root begins."""
    begin = _TOP.search(data)
    return begin.start() if begin is not None else len(data)


def split_zeros(data: bytes, least: int = 16) -> tuple[list[bytes], int]:
    """What stands between long runs of zeros, and how many such runs there are."""
    parts = [part for part in re.split(rb"\0{%d,}" % least, data) if part]
    return parts or [b""], len(re.findall(rb"\0{%d,}" % least, data))
