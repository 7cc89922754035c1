"""OOXML packages put together again: what all kinds have in common, the types of parts and the relationships between them.

Source: ECMA-376 part 1 (11 to 14: which parts lead to which), part 2 (6.2 parts and their types, 6.5 relationships).
"""

from __future__ import annotations

import posixpath
import re
from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import BinaryIO

from rustfern.formats.office.opc import MAIN, TYPES, rels_of
from rustfern.repair import ooxml_skeletons as made
from rustfern.repair.interface import LossKind, NothingLeft, Outcome, Step
from rustfern.repair.ooxml_grammar import R, grammar_of, run_mark
from rustfern.repair.package import Link, Package, attributes, is_xml, links_in, natural, relative
from rustfern.repair.xml_mend import first_fault, mend

_FOLDERS = {
    "docx": "word",
    "docm": "word",
    "dotx": "word",
    "dotm": "word",
    "pptx": "ppt",
    "pptm": "ppt",
    "ppsx": "ppt",
    "potx": "ppt",
    "potm": "ppt",
    "ppam": "ppt",
}
_FOLDERS |= dict.fromkeys(("xlsx", "xlsm", "xlsb", "xltx", "xltm", "xlam"), "xl") | dict.fromkeys(
    ("vsdx", "vsdm", "vssx", "vssm", "vstx", "vstm"), "visio"
)
_MAIN = {
    "word": "word/document.xml",
    "xl": "xl/workbook.xml",
    "ppt": "ppt/presentation.xml",
    "visio": "visio/document.xml",
}
_USUAL = {"word": "docx", "xl": "xlsx", "ppt": "pptx", "visio": "vsdx"}
_IMPLIED = re.compile(
    r"(?:word/(?:styles|settings|webSettings|fontTable|numbering|footnotes|endnotes|comments)\d*\.xml|xl/(?:styles|sharedStrings)\d*\.(?:xml|bin)"
    r"|ppt/(?:presProps|viewProps|tableStyles)\.xml|(?:word|xl|ppt|visio)/theme/theme1\.xml|visio/(?:windows|masters/masters|pages/pages)\.xml)"
)
LINKED = re.compile(rb"\br:(?:id|embed|link|pict|dm|lo|qs|cs)=\"([^\"]+)\"")
_TYPE = re.compile(r"<(?:\w+:)?(Override|Default)\b([^<>]*?)/?>")
_NEVER = ("xl/calcChain.xml", "docProps/thumbnail")


def kind_of_package(package: Package) -> str:
    """The folder in which the parts of the document lie: that tells which kind it is. Raises `NothingLeft`."""
    counts = {top: sum(name.startswith(f"{top}/") for name in package.found) for top in _MAIN}
    best = max(counts, key=lambda top: counts[top])
    if counts[best]:
        return best
    wanted = _FOLDERS.get(package.job.format)
    if wanted is None or not package.found:
        raise NothingLeft("no part of an office document is left in it")
    return wanted


class Work(ABC):
    """One package while it is worked on."""

    def __init__(self, package: Package, top: str) -> None:
        self.package, self.job, self.top = package, package.job, top
        self.names = sorted(package.found, key=natural)
        self.links: dict[str, list[Link]] = {}
        self.types: dict[str, str] = {}
        self.extensions: dict[str, str] = {}
        self.main = ""

    def run(self, out: BinaryIO) -> Outcome:
        """Take over what is whole, mend what is not, make what programs need, write."""
        package = self.package
        package.take_missing()
        self._read_types()
        package.rename(lambda name: name.casefold() in self.types or made.type_of(name) is not None)
        self.names = sorted(package.found, key=natural)
        self._take_parts()
        self._read_links()
        self._find_main()
        self.assemble()
        self._drop_dangling()
        self._write_links()
        format_name = self._format()
        self.types[self.main.casefold()] = made.MAIN_TYPES[format_name]
        package.parts[TYPES] = made.content_types(
            (name for name in package.parts if name != TYPES), self.types, self.extensions
        )
        package.did(Step.DIRECTORY)
        package.write(out, first=(TYPES, "_rels/.rels", self.main))
        return Outcome(format_name, tuple(package.steps), tuple(package.lost))

    def usual_main(self) -> str:
        """What the main part is called where nothing tells."""
        return _MAIN[self.top]

    @abstractmethod
    def assemble(self) -> None:
        """Make of the parts that were kept a document of this kind."""

    def _format(self) -> str:
        told = MAIN.get(self.types.get(self.main.casefold(), ""))
        if self.main.endswith(".bin"):
            return "xlsb"
        wanted = (
            self.job.format
            if _FOLDERS.get(self.job.format) == self.top and self.job.format != "xlsb"
            else _USUAL[self.top]
        )
        if told and _FOLDERS.get(told) == self.top:
            wanted = told
        has_macros = any(name.endswith("vbaProject.bin") for name in self.package.parts)
        return wanted if has_macros or not wanted.endswith("m") else wanted[:-1] + "x"

    def _read_types(self) -> None:
        name = next((each for each in self.names if each.casefold() == TYPES.casefold()), None)
        if name is None:
            self.package.did(Step.SKELETON)
            return
        for found in _TYPE.finditer(self.package.content(name).data.decode("utf-8", "replace")):
            told = attributes(found[2])
            if found[1] == "Override" and told.get("PartName"):
                self.types[told["PartName"].lstrip("/").casefold()] = told.get("ContentType", "")
            elif told.get("Extension"):
                self.extensions[told["Extension"].casefold()] = told.get("ContentType", "")

    def _take_parts(self) -> None:
        package = self.package
        for name in self.names:
            lower = name.casefold()
            if name.endswith("/") or lower == TYPES.casefold() or lower.endswith(".rels") or name.startswith(_NEVER):
                continue
            known = grammar_of(name)
            if not is_xml(name):
                if not package.keep(name):
                    self._loses(name)
            elif known is not None:
                if not package.keep_xml(name, known[0], known[1]):
                    self._loses(name)
            elif name == _MAIN[self.top] or not package.keep_xml(name, None, ""):
                if name == _MAIN[self.top] and package.keep_xml(name, None, ""):
                    continue
                if lower != _MAIN[self.top]:
                    self._loses(name)

    def _loses(self, name: str) -> None:
        if "/media/" in name:
            self.package.loses(LossKind.PICTURES, name, 1)
        else:
            self.package.loses(LossKind.PARTS, name, 1)

    def _read_links(self) -> None:
        for name in self.names:
            if name.casefold().endswith(".rels"):
                told = self.package.content(name)
                links = links_in(told.data, name)
                if links or told.complete:
                    self.links[name] = links
        for name in [each for each in self.package.parts if each.casefold().endswith(".rels")]:
            self.links.setdefault(name, links_in(self.package.read(name), name))

    def _find_main(self) -> None:
        package = self.package
        named = [
            link for link in self.links.get("_rels/.rels", []) if link.kind.endswith(("/officeDocument", "/document"))
        ]
        usual = self.usual_main()
        self.main = named[0].target if named and named[0].target in package.parts else usual
        root = [
            link
            for link in self.links.get("_rels/.rels", [])
            if not link.kind.endswith(("/officeDocument", "/document"))
        ]
        root = [link for link in root if link.outside or link.target in package.parts]
        if not root:
            root = [
                Link(f"rf{n}", made.link_of(part) or "", part)
                for n, part in enumerate(("docProps/core.xml", "docProps/app.xml", "docProps/custom.xml"), 2)
                if part in package.parts
            ]
        kind = named[0].kind if named else made.VISIO_LINK if self.top == "visio" else made.MAIN_LINK
        free = next(
            f"rfDocument{n}" for n in range(len(root) + 1) if f"rfDocument{n}" not in {link.ident for link in root}
        )
        self.links["_rels/.rels"] = [Link(free, kind, self.main), *root]

    def links_of(self, part: str) -> list[Link]:
        return self.links.get(rels_of(part), [])

    def set_links(self, part: str, links: list[Link]) -> None:
        self.links[rels_of(part)] = links

    def add_link(self, part: str, target: str, kind: str = "") -> str:
        """The id of a relationship to a part, made if there is none."""
        links = self.links_of(part)
        known = next((link.ident for link in links if link.target == target), None)
        if known:
            return known
        taken = {link.ident for link in links}
        ident = next(f"rf{n}" for n in range(1, len(taken) + 2) if f"rf{n}" not in taken)
        self.set_links(part, [*links, Link(ident, kind or made.link_of(target) or f"{R}/part", target)])
        return ident

    def link_by_order(self, part: str, idents: Sequence[str], targets: Sequence[str], kind: LossKind | None) -> None:
        """Give ids whose relationships are lost the parts that are there, one after the other, where there are as many of them."""
        known = {link.ident for link in self.links_of(part)}
        open_ids = [ident for ident in dict.fromkeys(idents) if ident not in known]
        if open_ids and len(open_ids) == len(targets):
            added = [
                Link(ident, made.link_of(target) or "", target) for ident, target in zip(open_ids, targets, strict=True)
            ]
            self.set_links(part, [*self.links_of(part), *added])
            if kind is not None:
                self.package.loses(LossKind.ORDER, part, len(targets))

    def unlinked(self, pattern: str) -> list[str]:
        """Parts of this kind to which nothing leads, in their order."""
        led = {link.target for links in self.links.values() for link in links}
        return [
            name for name in sorted(self.package.parts, key=natural) if re.fullmatch(pattern, name) and name not in led
        ]

    def add_implied_links(self) -> None:
        """Relationships of the main part to what every program looks for."""
        for name in sorted(self.package.parts, key=natural):
            if (
                _IMPLIED.fullmatch(name)
                and name.startswith(f"{self.top}/")
                and not any(name == link.target for link in self.links_of(self.main))
            ):
                if any(link.kind == made.link_of(name) for link in self.links_of(self.main)):
                    continue
                self.add_link(self.main, name)
                self.package.did(Step.SKELETON)

    def _drop_dangling(self) -> None:
        """Take out what leads to parts that are not there, and make relationships anew that programs need."""
        package = self.package
        for rels in list(self.links):
            kept = [link for link in self.links[rels] if link.outside or link.target in package.parts]
            gone_parts = {link.target for link in self.links[rels]} - {link.target for link in kept}
            for target in sorted(gone_parts - {loss.where for loss in package.lost}):
                if _IMPLIED.fullmatch(target):
                    package.loses(LossKind.PARTS, target, 1)
            self.links[rels] = kept
        for name in list(package.parts):
            if not is_xml(name) or name.endswith(".rels") or not name.startswith(f"{self.top}/"):
                continue
            data = package.read(name)
            if b" r:" not in data:
                continue
            known = {link.ident.encode() for link in self.links_of(name)}
            gone = {ident for ident in LINKED.findall(data) if ident and ident not in known}
            if gone and not (name == self.main and self.top == "ppt"):
                cleared = self._without(data, gone, name)
                if first_fault(cleared) is not None and (known_grammar := grammar_of(name)):
                    # Elements of garbage may lie in each other in ways that no pattern sees.
                    cleared = mend([cleared], known_grammar[0], complete=True, marks=False).data
                package.parts[name] = cleared

    def _without(self, data: bytes, gone: set[bytes], part: str) -> bytes:
        """A part without what needs relationships that are lost."""
        mark = run_mark("[a picture is missing here]") if self.job.marks else b""
        count = 0

        def leads(found: re.Match[bytes]) -> bool:
            return not gone.isdisjoint(LINKED.findall(found[0]))

        def drawn(found: re.Match[bytes]) -> bytes:
            nonlocal count
            if not leads(found):
                return found[0]
            count += 1
            return mark

        def dropped(found: re.Match[bytes]) -> bytes:
            nonlocal count
            if not leads(found):
                return found[0]
            count += 1
            return b""

        if self.top == "word":
            data = re.sub(
                rb"<(mc:AlternateContent)\b(?:(?!</mc:AlternateContent>).)*?</\1>", drawn, data, flags=re.DOTALL
            )
            data = re.sub(rb"<(w:drawing|w:pict|w:object)\b.*?</\1>", drawn, data, flags=re.DOTALL)
            data = re.sub(rb"<w:(?:header|footer)Reference\b[^>]*?/>", lambda f: b"" if leads(f) else f[0], data)
            data = re.sub(rb"<w:(?:altChunk|subDoc|attachedTemplate|printerSettings)\b[^>]*?/>", dropped, data)
        elif self.top == "ppt":
            data = re.sub(rb"<(mc:AlternateContent)\b.*?</\1>", dropped, data, flags=re.DOTALL)
            data = re.sub(rb"<(p:pic)\b.*?</\1>", dropped, data, flags=re.DOTALL)
            data = re.sub(rb"<(p:graphicFrame)\b.*?</\1>", dropped, data, flags=re.DOTALL)
            data = re.sub(
                rb"<(p:bg|a:blipFill|p:timing)\b.*?</\1>", lambda f: b"" if leads(f) else f[0], data, flags=re.DOTALL
            )
            data = re.sub(
                rb"<(?:a:hlinkClick|a:hlinkHover|p:sldLayoutId|p:sldMasterId|p:tags)\b[^>]*?(?:/>|>.*?</a:hlink\w+>)",
                lambda f: b"" if leads(f) else f[0],
                data,
                flags=re.DOTALL,
            )
            data = data.replace(b"<p:sldLayoutIdLst></p:sldLayoutIdLst>", b"")
        else:
            for tag in (
                b"drawing",
                b"legacyDrawing",
                b"legacyDrawingHF",
                b"picture",
                b"hyperlink",
                b"tablePart",
                b"pageSetup",
                b"pivotCache",
                b"externalReference",
            ):
                data = re.sub(rb"<" + tag + rb"\b[^>]*?/>", lambda f: b"" if leads(f) else f[0], data)
            data = re.sub(
                rb"<(oleObjects|controls)\b.*?</\1>", lambda f: b"" if leads(f) else f[0], data, flags=re.DOTALL
            )
            data = re.sub(rb"<(?:hyperlinks|tableParts|pivotCaches|externalReferences)\b[^>]*>\s*</\w+>", b"", data)
            data = re.sub(rb"<(xdr:\w*[Aa]nchor)\b.*?</\1>", dropped, data, flags=re.DOTALL)
        data = LINKED.sub(lambda f: b"" if f[1] in gone else f[0], data)
        if count:
            self.package.loses(LossKind.PICTURES, part, count)
        return data

    def _write_links(self) -> None:
        package = self.package
        for rels, links in self.links.items():
            of = (
                ""
                if rels == "_rels/.rels"
                else posixpath.join(posixpath.dirname(posixpath.dirname(rels)), posixpath.basename(rels)[:-5])
            )
            if of and of not in package.parts:
                continue
            if not links and of != self.main:
                continue
            package.parts[rels] = made.relationships(
                (link.ident, link.kind, link.target if link.outside else relative(of, link.target), link.outside)
                for link in links
            )


def attributes_of(raw: bytes) -> dict[str, str]:
    """The attributes of a tag."""
    return attributes(raw.decode("utf-8", "replace"))


def free_ident(links: Sequence[Link]) -> str:
    """A relationship id that is not taken."""
    taken = {link.ident for link in links}
    return next(f"rf{n}" for n in range(1, len(taken) + 2) if f"rf{n}" not in taken)
