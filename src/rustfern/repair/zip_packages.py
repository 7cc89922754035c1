"""ZIP packages: which kind it is, and books and plain archives put together again; transfers as text undone, blocks put back.

Source: PKWARE APPNOTE 6.3.10; EPUB 3.3 (OCF 4.2: container.xml and mimetype; 5.3 metadata, 5.6 manifest, 5.7 spine).
"""

from __future__ import annotations

import io
import posixpath
import re
from typing import BinaryIO
from urllib.parse import quote, unquote

from msgspec.structs import replace

from rustfern.formats.office.opc import PACKAGES
from rustfern.repair import odf, ooxml
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Repairer, Step
from rustfern.repair.package import Package, attributes, is_xml, natural
from rustfern.repair.xml_mend import Grammar, escaped, mark_of
from rustfern.repair.zip_mending import mended_bytes
from rustfern.repair.zip_salvage import find_members

_OOXML = PACKAGES - {"3mf", "xps"}
_ODF = frozenset({"odt", "ott", "ods", "ots", "odp", "otp", "odg", "otg"})
_HTML = "http://www.w3.org/1999/xhtml"
_CONTAINER = "META-INF/container.xml"


def _html_mark(text: str) -> bytes:
    return f"<p><em>{escaped(text)}</em></p>".encode()


PAGE = Grammar(
    opening=f'<?xml version="1.0" encoding="UTF-8"?><html xmlns="{_HTML}"><head><title></title></head><body>'.encode(),
    containers={b"body": _html_mark}, unit=b"p", atomic=frozenset({b"head", b"img", b"script", b"style", b"svg"}), wrap=(b"p",),
    parents={
        **dict.fromkeys((b"p", b"h1", b"h2", b"h3", b"h4", b"ul", b"ol", b"table", b"div", b"section", b"blockquote", b"pre"), (b"body", b"div", b"section", b"td", b"li", b"blockquote")),
        b"li": (b"ul", b"ol"), b"tr": (b"table", b"tbody", b"thead"), b"td": (b"tr",), b"th": (b"tr",),
        **dict.fromkeys((b"em", b"strong", b"b", b"i", b"a", b"span", b"br", b"code"), (b"p", b"li", b"td", b"th", b"h1", b"h2", b"h3", b"h4", b"span", b"div")),
    },
    namespaces={"epub": "http://www.idpf.org/2007/ops", "xlink": "http://www.w3.org/1999/xlink", "xml": "http://www.w3.org/XML/1998/namespace"},
    html_entities=True,
)  # fmt: skip


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a whole package of the kind that its parts show. Raises `Malformed`."""
    held = job.whole()
    members = find_members(held)
    changed, step = mended_bytes(held, members, job.budget)
    if changed is not None:
        job = replace(job, stream=io.BytesIO(changed), size=len(changed), known={})
        members = find_members(changed)
    job.known["members"] = members
    names = [member.name for member in members]
    outcome = _by_kind(job, names)(job, out)
    return replace(outcome, steps=(step, *outcome.steps), source=changed) if step is not None else outcome


def _by_kind(job: Job, names: list[str]) -> Repairer:
    tops = [name.partition("/")[0] for name in names if "/" in name]
    if any(name.casefold() == "[content_types].xml" for name in names) or any(
        top in ("word", "xl", "ppt", "visio") for top in tops
    ):
        if any(top in ("word", "xl", "ppt", "visio") for top in tops) or job.format in _OOXML:
            return ooxml.repair
        return _plain
    if any(name.endswith(".opf") for name in names) or (job.format == "epub"):
        return _book
    if job.format in _ODF or ("content.xml" in names and "META-INF/manifest.xml" in names):
        return odf.repair
    return ooxml.repair if job.format in _OOXML else _plain


def repair_members(job: Job, out: BinaryIO) -> Outcome:
    """A plain archive of what is left of a package whose own kind cannot be put together again. Raises `Malformed`."""
    outcome = _plain(
        replace(job, format="zip"), out, without=("[content_types].xml", "_rels/", "meta-inf/manifest.xml", "mimetype")
    )
    return replace(outcome, lost=(Loss(LossKind.FORMAT, "a plain archive (zip)"), *outcome.lost))


def _plain(job: Job, out: BinaryIO, without: tuple[str, ...] = ()) -> Outcome:
    """Every member that proves whole; text and markup of others as far as it goes, under a name that says so."""
    held = job.whole()
    package = Package(held, job)
    for name, member in package.found.items():
        if name.endswith("/") or name.casefold().startswith(without):
            continue
        if member.proven:
            package.parts[name] = member
            continue
        data = (
            package.content(name).data if member.is_markup or name.casefold().endswith((".md", ".log", ".rtf")) else b""
        )
        if member.ended and data:
            package.parts[name] = data
            package.loses(LossKind.UNPROVEN, name)
            package.did(Step.PARTS)
        elif data.strip(b"\0 \r\n\t"):
            package.parts[name] = data
            package.loses(LossKind.REST, name)
            package.did(Step.PARTS)
        elif member.ended and member.got:
            package.parts[name] = package.content(name).data
            package.loses(LossKind.UNPROVEN, name)
        else:
            package.loses(LossKind.MEMBERS, name, 1)
    if not package.parts:
        raise NothingLeft("no member of it can be unpacked")
    package.did(Step.DIRECTORY)
    kept = ("mimetype",) if "mimetype" in package.parts else ()
    package.write(out, first=kept, stored=kept)
    return Outcome(job.format, tuple(package.steps), tuple(package.lost))


def _book(job: Job, out: BinaryIO) -> Outcome:
    held = job.whole()
    package = Package(held, job)
    opf = next((name for name in package.found if name.endswith(".opf")), "")
    for name in package.found:
        if name.endswith("/") or name in ("mimetype", _CONTAINER, opf):
            continue
        if name.casefold().endswith((".xhtml", ".html", ".htm")):
            if not package.keep_xml(name, PAGE, "paragraphs"):
                package.loses(LossKind.PAGES, name, 1)
        elif not (package.keep_xml(name, None, "") if is_xml(name) else package.keep(name)):
            package.loses(
                LossKind.PICTURES if name.endswith((".png", ".jpg", ".jpeg", ".gif")) else LossKind.PARTS, name, 1
            )
    raw = package.content(opf).data if opf else b""
    opf = opf or "OEBPS/content.opf"
    _make_book(package, opf, raw)
    package.parts["mimetype"] = b"application/epub+zip"
    package.parts[_CONTAINER] = (
        '<?xml version="1.0"?><container version="1.0" xmlns="urn:oasis:names:tc:opendocument:xmlns:container"><rootfiles>'
        f'<rootfile full-path="{escaped(opf)}" media-type="application/oebps-package+xml"/></rootfiles></container>'
    ).encode()
    package.did(Step.DIRECTORY)
    package.write(out, first=("mimetype", _CONTAINER), stored=("mimetype",))
    return Outcome("epub", tuple(package.steps), tuple(package.lost))


_MEDIA = {
    "xhtml": "application/xhtml+xml", "html": "application/xhtml+xml", "htm": "application/xhtml+xml", "css": "text/css", "png": "image/png",
    "jpg": "image/jpeg", "jpeg": "image/jpeg", "gif": "image/gif", "svg": "image/svg+xml", "ncx": "application/x-dtbncx+xml",
    "ttf": "font/ttf", "otf": "font/otf", "woff": "font/woff",
}  # fmt: skip


def _make_book(package: Package, opf: str, raw: bytes) -> None:
    """The package document anew: what it said of the book, the files that are there, the order that it told, else that of their names."""
    folder = posixpath.dirname(opf)
    text = raw.decode("utf-8", "replace")
    items = {
        told["id"]: told
        for told in map(attributes, re.findall(r"<(?:opf:)?item\b([^>]*?)/?>", text))
        if told.get("id") and told.get("href")
    }
    spine = re.findall(r'<(?:opf:)?itemref\b[^>]*?idref="([^"]+)"', text)
    path = {
        ident: posixpath.normpath(posixpath.join(folder, unquote(told["href"]).partition("#")[0]))
        for ident, told in items.items()
    }
    listed = {target: ident for ident, target in path.items()}
    pages = [
        name for name in sorted(package.parts, key=natural) if name.casefold().endswith((".xhtml", ".html", ".htm"))
    ]
    order = [path[ident] for ident in spine if ident in path]
    nav = next((path[i] for i, told in items.items() if "nav" in told.get("properties", "").split()), "")
    order += [
        name
        for name in pages
        if name not in order and name not in (nav,) and not re.search(r"(?:^|/)(?:nav|toc)\.x?html$", name)
    ]
    for name in order:
        if name not in package.parts:
            package.loses(LossKind.PAGES, name, 1)
            if package.job.marks:
                package.parts[name] = PAGE.opening + _html_mark("[this chapter is missing]") + b"</body></html>"
    if package.job.marks and package.cut_off and not spine:
        order.append(posixpath.join(folder, "missing.xhtml"))
        package.parts[order[-1]] = PAGE.opening + _html_mark(mark_of(0, "pages")) + b"</body></html>"
    if not nav or nav not in package.parts:
        nav = posixpath.join(folder, "nav-made.xhtml")
        links = "".join(
            f'<li><a href="{quote(posixpath.relpath(name, folder or "."))}">{n}</a></li>'
            for n, name in enumerate(order, 1)
        )
        package.parts[nav] = (
            f'<?xml version="1.0" encoding="UTF-8"?><html xmlns="{_HTML}" xmlns:epub="http://www.idpf.org/2007/ops"><head><title>Contents</title></head>'
            f'<body><nav epub:type="toc"><ol>{links}</ol></nav></body></html>'
        ).encode()
        package.did(Step.SKELETON)
    told = re.search(r"<(?:opf:)?metadata\b[^>]*>(.*?)</(?:opf:)?metadata>", text, re.DOTALL)

    def of(tag: str, otherwise: str) -> str:
        found = re.search(rf"<dc:{tag}\b[^>]*>([^<]*)</dc:{tag}>", told[1]) if told else None
        return found[1] if found and found[1].strip() else otherwise

    people = "".join(
        f"<dc:creator>{each}</dc:creator>"
        for each in re.findall(r"<dc:creator\b[^>]*>([^<]*)</dc:creator>", told[1] if told else "")
    )
    rows, refs = [], []
    for number, name in enumerate(sorted(package.parts, key=natural)):
        kind = _MEDIA.get(name.rpartition(".")[2].casefold())
        if kind is None or name.startswith("META-INF/"):
            continue
        ident = listed.get(name) or f"made{number}"
        listed[name] = ident
        more = ' properties="nav"' if name == nav else ""
        rows.append(
            f'<item id="{escaped(ident)}" href="{quote(posixpath.relpath(name, folder or "."))}" media-type="{kind}"{more}/>'
        )
    refs = [f'<itemref idref="{escaped(listed[name])}"/>' for name in order if name in package.parts]
    if not refs:
        raise NothingLeft("no page of the book is left")
    package.parts[opf] = (
        '<?xml version="1.0" encoding="UTF-8"?><package xmlns="http://www.idpf.org/2007/opf" version="3.0" unique-identifier="id">'
        f'<metadata xmlns:dc="http://purl.org/dc/elements/1.1/"><dc:identifier id="id">{of("identifier", "unknown")}</dc:identifier>'
        f"<dc:title>{of('title', 'Untitled')}</dc:title><dc:language>{of('language', 'en')}</dc:language>{people}"
        f'<meta property="dcterms:modified">2000-01-01T00:00:00Z</meta></metadata><manifest>{"".join(rows)}</manifest><spine>{"".join(refs)}</spine></package>'
    ).encode()
