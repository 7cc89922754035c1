"""OOXML packages put together again: texts, workbooks, presentations, diagrams.

Source: ECMA-376 part 1 (11 to 14: which parts lead to which), part 2 (6.2 parts and their types, 6.5 relationships).
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Sequence
from typing import BinaryIO

from rustfern.formats.office.opc import MAIN, TYPES, rels_of
from rustfern.repair import ooxml_skeletons as made
from rustfern.repair.interface import Job, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.ooxml_grammar import SHEET_STYLES, R, S, grammar_of, row_mark, run_mark, word_mark
from rustfern.repair.package import Link, Package, attributes, is_xml, links_in, natural, relative
from rustfern.repair.xml_mend import first_fault, mark_of, mend

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
}
_FOLDERS |= dict.fromkeys(("xlsx", "xlsm", "xlsb", "xltx", "xltm"), "xl") | dict.fromkeys(
    ("vsdx", "vsdm", "vssx", "vstx"), "visio"
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
_LINKED = re.compile(rb"\br:(?:id|embed|link|pict|dm|lo|qs|cs)=\"([^\"]+)\"")
_TYPE = re.compile(r"<(?:\w+:)?(Override|Default)\b([^>]*?)/?>")
_SHEET_TAG = re.compile(rb"<(?:\w+:)?sheet\b([^>]*)/?>")
_SLIDE_TAG = re.compile(rb"<(?:\w+:)?sldId\b([^>]*)/?>")
_SHARED = re.compile(rb"<c\b[^>]*\bt=\"s\"[^>]*>(?:<f\b[^>]*?(?:/>|>[^<]*</f>))?<v>(\d{1,9})</v>")
_STYLE = re.compile(rb"<(?:c|row|col)\b[^>]*?\b(?:s|style)=\"(\d{1,6})\"")
_ITEM = re.compile(rb"<si\b")
_ITEMS = re.compile(rb"<si\b[^>]*?(?:/>|>.*?</si>)", re.DOTALL)
_SHOWN_TEXT = re.compile(rb"<t\b[^>]*>[^<]*\S[^<]*</t>")
_MOST_STRINGS = 5_000_000
_NEVER = ("xl/calcChain.xml", "docProps/thumbnail")


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a whole package. Raises `Malformed`."""
    with job.whole() as data:
        work = _Work(Package(data, job))
        return work.run(out)


class _Work:
    """One package while it is worked on."""

    def __init__(self, package: Package) -> None:
        self.package, self.job = package, package.job
        self.names = sorted(package.found, key=natural)
        self.top = self._top()
        self.links: dict[str, list[Link]] = {}
        self.types: dict[str, str] = {}
        self.extensions: dict[str, str] = {}
        self.main = ""

    def _top(self) -> str:
        counts = {top: sum(name.startswith(f"{top}/") for name in self.names) for top in _MAIN}
        best = max(counts, key=lambda top: counts[top])
        if not counts[best]:
            wanted = _FOLDERS.get(self.job.format)
            if wanted is None or not self.names:
                raise NothingLeft("no part of an office document is left in it")
            return wanted
        return best

    def run(self, out: BinaryIO) -> Outcome:
        """Take over what is whole, mend what is not, make what programs need, write."""
        package = self.package
        package.take_missing()
        self._read_types()
        self._take_parts()
        self._read_links()
        self._find_main()
        {"word": self._word, "xl": self._sheets, "ppt": self._slides, "visio": self._diagram}[self.top]()
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
        usual = _MAIN[self.top]
        self.main = named[0].target if named and named[0].target in package.parts else usual
        if usual == "xl/workbook.xml" and "xl/workbook.bin" in package.parts:
            self.main = "xl/workbook.bin"
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

    # -- links between parts

    def _of(self, part: str) -> list[Link]:
        return self.links.get(rels_of(part), [])

    def _set(self, part: str, links: list[Link]) -> None:
        self.links[rels_of(part)] = links

    def _add_link(self, part: str, target: str, kind: str = "") -> str:
        """The id of a relationship to a part, made if there is none."""
        links = self._of(part)
        known = next((link.ident for link in links if link.target == target), None)
        if known:
            return known
        taken = {link.ident for link in links}
        ident = next(f"rf{n}" for n in range(1, len(taken) + 2) if f"rf{n}" not in taken)
        self._set(part, [*links, Link(ident, kind or made.link_of(target) or f"{R}/part", target)])
        return ident

    def _by_order(self, part: str, idents: Sequence[str], targets: Sequence[str], kind: LossKind | None) -> None:
        """Give ids whose relationships are lost the parts that are there, one after the other, where there are as many of them."""
        known = {link.ident for link in self._of(part)}
        open_ids = [ident for ident in dict.fromkeys(idents) if ident not in known]
        if open_ids and len(open_ids) == len(targets):
            added = [
                Link(ident, made.link_of(target) or "", target) for ident, target in zip(open_ids, targets, strict=True)
            ]
            self._set(part, [*self._of(part), *added])
            if kind is not None:
                self.package.loses(LossKind.ORDER, part, len(targets))

    def _unlinked(self, pattern: str) -> list[str]:
        """Parts of this kind to which nothing leads, in their order."""
        led = {link.target for links in self.links.values() for link in links}
        return [
            name for name in sorted(self.package.parts, key=natural) if re.fullmatch(pattern, name) and name not in led
        ]

    # -- texts

    def _word(self) -> None:
        package, main = self.package, self.main
        if main not in package.parts:
            blocks = b"".join(self._stories())
            mark = word_mark("[the text of the document is missing]") if self.job.marks else b""
            package.parts[main] = made.text_document(mark + blocks if mark or blocks else b"<w:p/>")
            package.did(Step.SKELETON)
            package.loses(LossKind.REST, main)
        self._implied_links()
        body = package.read(main)
        headers = re.findall(rb"<w:(?:header|footer)Reference\b[^>]*?r:id=\"([^\"]+)\"", body)
        for kind in ("header", "footer"):
            ids = [i.decode() for i in re.findall(rb"<w:%bReference\b[^>]*?r:id=\"([^\"]+)\"" % kind.encode(), body)]
            self._by_order(main, ids, self._unlinked(rf"word/{kind}\d*\.xml"), None)
        if headers or b"r:embed" in body:
            pictures = [i.decode() for i in re.findall(rb"r:embed=\"([^\"]+)\"", body)]
            self._by_order(main, pictures, self._unlinked(r"word/media/[^/]+"), LossKind.ORDER)

    def _stories(self) -> list[bytes]:
        """The paragraphs of notes and comments, where the text that they belong to is lost."""
        out = []
        for name in sorted(self.package.parts, key=natural):
            if re.fullmatch(r"word/(?:footnotes|endnotes|comments|header\d*|footer\d*)\.xml", name):
                for found in re.finditer(rb"<w:p[ >].*?</w:p>", self.package.read(name), re.DOTALL):
                    text = b"".join(re.findall(rb"<w:t(?:\s[^>]*)?>([^<]*)</w:t>", found[0]))
                    if text.strip():
                        out.append(b'<w:p><w:r><w:t xml:space="preserve">' + text + b"</w:t></w:r></w:p>")
        return out

    def _implied_links(self) -> None:
        """Relationships of the main part to what every program looks for."""
        for name in sorted(self.package.parts, key=natural):
            if (
                _IMPLIED.fullmatch(name)
                and name.startswith(f"{self.top}/")
                and not any(name == link.target for link in self._of(self.main))
            ):
                if any(link.kind == made.link_of(name) for link in self._of(self.main)):
                    continue
                self._add_link(self.main, name)
                self.package.did(Step.SKELETON)

    # -- workbooks

    def _sheets(self) -> None:
        package, main = self.package, self.main
        if main.endswith(".bin") or any(name.endswith("workbook.bin") for name in package.found):
            self._binary_sheets()
            return
        raw = package.content(main).data if main in package.found else b""
        if main in package.parts and first_fault(package.read(main)) is None:
            raw = package.read(main)
        listed = [
            (told.get("name", ""), next((v for k, v in told.items() if k.endswith(":id")), ""))
            for told in map(_told, _SHEET_TAG.findall(raw))
        ]
        self._by_order(main, [ident for _, ident in listed], self._unlinked(r"xl/worksheets/[^/]+\.xml"), None)
        targets = {link.ident: link.target for link in self._of(main)}
        known = {targets.get(ident) for _, ident in listed}
        rest = [name for name in self._worksheets() if name not in known]
        missing = [name for name, ident in listed if targets.get(ident) not in package.parts]
        if rest or missing or main not in package.parts:
            self._make_workbook(listed, targets, rest, raw)
        self._implied_links()
        self._mend_strings()
        self._mend_sheet_styles()

    def _worksheets(self) -> list[str]:
        return [
            name
            for name in sorted(self.package.parts, key=natural)
            if re.fullmatch(r"xl/worksheets/[^/]+\.(?:xml|bin)", name)
        ]

    def _make_workbook(
        self, listed: Sequence[tuple[str, str]], targets: dict[str, str], rest: Sequence[str], raw: bytes
    ) -> None:
        """A workbook of the sheets that are there; one that was listed and is lost gets an empty sheet that says so."""
        package, main = self.package, self.main
        names: list[tuple[str, str]] = []
        titles = self._sheet_titles() if not listed else []
        for name, ident in listed:
            target = targets.get(ident)
            if target not in package.parts:
                target = (
                    target
                    if target and target.startswith("xl/worksheets/")
                    else f"xl/worksheets/missing{len(names) + 1}.xml"
                )
                package.parts[target] = made.sheet(row_mark("[this sheet is missing]") if self.job.marks else b"")
                package.loses(LossKind.SHEETS, name, 1)
            names.append((name, target))
        if rest and listed:
            package.loses(LossKind.NAMES, "", len(rest))
        for number, target in enumerate(rest, len(names)):
            title = (
                titles[number]
                if not listed and number < len(titles) and len(titles) >= len(rest)
                else f"Sheet{number + 1}"
            )
            names.append((_unused(title, [name for name, _ in names]), target))
        if rest and not titles and not listed:
            package.loses(LossKind.NAMES, "", len(rest))
        if not names:
            target = "xl/worksheets/sheet1.xml"
            package.parts[target] = made.sheet(row_mark("[the sheets are missing]") if self.job.marks else b"")
            package.loses(LossKind.REST, main)
            names.append(("Sheet1", target))
        wanted = {target for _, target in names}
        others = [link for link in self._of(main) if link.target not in wanted and "/worksheets/" not in link.target]
        self._set(main, [*others])
        idents = [(name, self._add_link(main, target)) for name, target in names]
        package.parts[main] = made.workbook(idents, date1904=b'date1904="1"' in raw or b'date1904="true"' in raw)
        package.did(Step.SKELETON)

    def _sheet_titles(self) -> list[str]:
        from html import unescape

        told = self.package.read("docProps/app.xml").decode("utf-8", "replace")
        titles = re.search(r"<TitlesOfParts>(.*?)</TitlesOfParts>", told, re.DOTALL)
        return [unescape(each) for each in re.findall(r"<vt:lpstr>([^<]*)</vt:lpstr>", titles[1])] if titles else []

    def _mend_strings(self) -> None:
        """Shared strings so that each cell gets its own: as many as cells ask for; texts whose cells are lost go into a sheet of their own."""
        package = self.package
        name = next((each for each in package.parts if re.fullmatch(r"xl/sharedStrings\d*\.xml", each)), None)
        is_mended = name is None or isinstance(package.parts[name], bytes)
        rows_lost = any(loss.kind is LossKind.ROWS or loss.kind is LossKind.SHEETS for loss in package.lost)
        if not is_mended and not rows_lost:
            return
        used = {int(found[1]) for each in self._worksheets() for found in _SHARED.finditer(package.read(each))}
        most = max(used, default=-1)
        data = package.read(name) if name else b""
        items = _ITEMS.findall(data)
        if most >= _MOST_STRINGS:
            return
        if is_mended:
            items = self._aligned(name, items, data, most)
            name = name or "xl/sharedStrings.xml"
            package.parts[name] = made.strings(items)
            if not any(link.target == name for link in self._of(self.main)):
                self._set(self.main, [link for link in self._of(self.main) if not link.kind.endswith("/sharedStrings")])
                self._add_link(self.main, name)
        if rows_lost and (stray := [n for n, item in enumerate(items) if n not in used and _SHOWN_TEXT.search(item)]):
            rows = [row_mark("[texts whose cells are lost]")] if self.job.marks else []
            rows += [b'<row><c t="s"><v>%d</v></c></row>' % n for n in stray if items[n] != self._filler()]
            self._add_sheet("Texts without cells", made.sheet(b"".join(rows)))

    def _filler(self) -> bytes:
        return b"<si><t>" + (b"[this text is missing]" if self.job.marks else b"") + b"</t></si>"

    def _aligned(self, name: str | None, items: list[bytes], data: bytes, most: int) -> list[bytes]:
        """The strings with fillers for those that are lost. Where strings behind a fault are there up to the last one, they are counted from
        the end: a string that belongs to another cell would be worse than none."""
        package = self.package
        told = package.content(name) if name in package.found and name is not None else None
        count = re.search(rb"<sst\b[^>]*\buniqueCount=\"(\d{1,8})\"", data)
        wanted = int(count[1]) if count else 0
        fault = first_fault(told.data) if told is not None else None
        before = len(_ITEM.findall(told.data[:fault])) - 1 if told is not None and fault is not None else len(items)
        short = max(most + 1 - len(items), 0)
        ends = told is not None and told.complete and wanted > most
        if ends and wanted != len(items):
            short = max(wanted - len(items), 0)
            items = (
                items[:before] + [self._filler()] * short + items[before if short else before + len(items) - wanted :]
            )
        else:
            items = items + [self._filler()] * short
        package.lost[:] = [loss for loss in package.lost if loss.kind is not LossKind.CELL_TEXTS]
        if short or fault is not None:
            package.loses(LossKind.CELL_TEXTS, name or "xl/sharedStrings.xml", max(short, 1))
        if name is None:
            package.did(Step.SKELETON)
        return items

    def _add_sheet(self, title: str, data: bytes) -> None:
        """One more sheet behind the others."""
        package, main = self.package, self.main
        target = next(
            f"xl/worksheets/made{n}.xml" for n in range(1, 1000) if f"xl/worksheets/made{n}.xml" not in package.parts
        )
        package.parts[target] = data
        ident = self._add_link(main, target)
        raw = package.read(main)
        listed = [_told(tag) for tag in _SHEET_TAG.findall(raw)]
        number = max((int(told["sheetId"]) for told in listed if told.get("sheetId", "").isdigit()), default=0) + 1
        title = _unused(title, [told.get("name", "") for told in listed])
        tag = f'<sheet xmlns="{S}" xmlns:r="{R}" name="{title}" sheetId="{number}" r:id="{ident}"/>'.encode()
        end = re.search(rb"</(?:\w+:)?sheets>", raw)
        if end is not None:
            package.parts[main] = raw[: end.start()] + tag + raw[end.start() :]

    def _mend_sheet_styles(self) -> None:
        package = self.package
        if "xl/styles.xml" in package.parts:
            return
        most = max(
            (int(found) for each in self._worksheets() for found in _STYLE.findall(package.read(each))), default=0
        )
        if not most and "xl/styles.xml" not in package.found:
            return
        data = package.content("xl/styles.xml").data if "xl/styles.xml" in package.found else b""
        formats = re.search(rb"<cellXfs\b[^>]*>(.*?)</cellXfs>", data, re.DOTALL)
        if formats is not None and len(re.findall(rb"<xf\b", formats[1])) > most:
            package.parts["xl/styles.xml"] = mend([data], SHEET_STYLES, complete=False, marks=False).data
        else:
            package.parts["xl/styles.xml"] = made.sheet_styles(most + 1)
        package.did(Step.SKELETON)
        if not any(loss.where == "xl/styles.xml" for loss in package.lost):
            package.loses(LossKind.STYLES, "xl/styles.xml")
        self._set(self.main, [link for link in self._of(self.main) if link.target != "xl/styles.xml"])
        self._add_link(self.main, "xl/styles.xml")

    def _binary_sheets(self) -> None:
        """A binary workbook: what is whole of it."""
        if self.main not in self.package.parts or not self._worksheets():
            raise NothingLeft(
                "the workbook's own part or all of its sheets are lost: a binary one cannot be put together without them"
            )
        targets = [link for link in self._of(self.main) if link.target in self.package.parts]
        lost = [
            link
            for link in self._of(self.main)
            if "/worksheets/" in link.target and link.target not in self.package.parts
        ]
        if lost:
            raise NothingLeft("sheets of the binary workbook are lost, without which its list of sheets cannot be read")
        self._set(self.main, targets)

    # -- presentations

    def _slides(self) -> None:
        package, main = self.package, self.main
        raw = package.read(main) or (package.content(main).data if main in package.found else b"")
        targets = {link.ident: link.target for link in self._of(main)}
        order = [targets[i] for i in _idents(_SLIDE_TAG.findall(raw)) if i in targets]
        there = [name for name in sorted(package.parts, key=natural) if re.fullmatch(r"ppt/slides/[^/]+\.xml", name)]
        if not order:
            order = sorted((link.target for link in self._of(main) if link.kind.endswith("/slide")), key=natural)
        order += [name for name in there if name not in order]
        lost = [name for name in order if name not in package.parts]
        self._drop_notes()
        size = re.search(rb"<p:sldSz\b[^>]*?/>", raw)
        layouts = self._layouts()
        for name in lost:
            package.loses(LossKind.SLIDES, name, 1)
            package.parts[name] = made.slide(f"[slide {order.index(name) + 1} is missing]" if self.job.marks else "")
            self._set(name, [])
        if not there and not lost:
            package.loses(LossKind.REST, main)
        if self.job.marks and package.cut_off and main not in package.parts:
            name = f"ppt/slides/slide{9000 + len(order)}.xml"
            package.parts[name] = made.slide(mark_of(0, "slides"))
            order.append(name)
            package.loses(LossKind.SLIDES)
        for name in order:
            links = [link for link in self._of(name) if link.outside or link.target in package.parts]
            if not any(link.kind.endswith("/slideLayout") for link in links):
                links.append(Link(_free(links), f"{R}/slideLayout", layouts[0]))
                package.did(Step.SKELETON)
            self._set(name, links)
        if lost or not package.read(main) or first_fault(package.read(main)) is not None or self._dangling_main():
            self._make_presentation(order, size[0].decode() if size else "")
        self._pad_tables(order)

    def _drop_notes(self) -> None:
        """Notes that do not say on which slide they rest, and a master of notes without its theme, are left out."""
        parts = self.package.parts
        for pattern, needed in ((r"ppt/notesMasters/[^/]+\.xml", "/theme"), (r"ppt/notesSlides/[^/]+\.xml", "/slide")):
            for name in [each for each in parts if re.fullmatch(pattern, each)]:
                if not any(link.kind.endswith(needed) and link.target in parts for link in self._of(name)):
                    del parts[name]
                    if needed == "/slide":
                        self.package.loses(LossKind.PARTS, name, 1)

    def _dangling_main(self) -> bool:
        ids = {i.decode() for i in _LINKED.findall(self.package.read(self.main))}
        return not ids <= {
            link.ident for link in self._of(self.main) if link.outside or link.target in self.package.parts
        }

    def _layouts(self) -> list[str]:
        """The layouts that rest on a master with a theme, which are made where there are none."""
        package = self.package
        masters = []
        for name in sorted(package.parts, key=natural):
            if re.fullmatch(r"ppt/slideMasters/[^/]+\.xml", name):
                links = [link for link in self._of(name) if link.outside or link.target in package.parts]
                if any(link.kind.endswith("/theme") for link in links) and any(
                    link.kind.endswith("/slideLayout") for link in links
                ):
                    masters.append(name)
                else:
                    del package.parts[name]
        layouts = []
        for name in sorted(package.parts, key=natural):
            if re.fullmatch(r"ppt/slideLayouts/[^/]+\.xml", name):
                if any(link.target in masters for link in self._of(name)):
                    layouts.append(name)
                else:
                    del package.parts[name]
        if layouts:
            return layouts
        for name in masters:
            del package.parts[name]
        theme = next(
            (n for n in sorted(package.parts, key=natural) if re.fullmatch(r"ppt/theme/theme\d*\.xml", n)),
            "ppt/theme/theme1.xml",
        )
        package.parts.setdefault(theme, made.theme())
        layout, master = "ppt/slideLayouts/slideLayout1.xml", "ppt/slideMasters/slideMaster1.xml"
        package.parts[layout], package.parts[master] = made.layout(), made.master(["rf1"])
        self._set(layout, [Link("rf1", f"{R}/slideMaster", master)])
        self._set(master, [Link("rf1", f"{R}/slideLayout", layout), Link("rf2", f"{R}/theme", theme)])
        package.did(Step.SKELETON)
        package.loses(LossKind.STYLES, "ppt/slideMasters")
        return [layout]

    def _make_presentation(self, order: Sequence[str], size: str) -> None:
        package, main = self.package, self.main
        kept = [link for link in self._of(main) if (link.outside or link.target in package.parts) and link.kind.rpartition("/")[2] in (
            "presProps", "viewProps", "tableStyles", "theme", "commentAuthors", "vbaProject")]  # fmt: skip
        self._set(main, kept)
        masters = [n for n in sorted(package.parts, key=natural) if re.fullmatch(r"ppt/slideMasters/[^/]+\.xml", n)]
        notes = [
            n for n in package.parts
            if re.fullmatch(r"ppt/notesMasters/[^/]+\.xml", n) and any(link.target in package.parts for link in self._of(n))
        ]  # fmt: skip
        package.parts[main] = made.presentation(
            [self._add_link(main, name) for name in masters], [self._add_link(main, name) for name in notes],
            [self._add_link(main, name) for name in order], size,
        )  # fmt: skip
        self._implied_links()
        package.did(Step.SKELETON)

    def _pad_tables(self, slides: Sequence[str]) -> None:
        """Rows of tables that were cut have as many cells as the table has columns."""
        empty = b"<a:tc><a:txBody><a:bodyPr/><a:lstStyle/><a:p/></a:txBody><a:tcPr/></a:tc>"
        for name in slides:
            data = self.package.parts.get(name)
            if not isinstance(data, bytes) or b"<a:tbl>" not in data:
                continue

            def padded(table: re.Match[bytes]) -> bytes:
                columns = len(re.findall(rb"<a:gridCol\b", table[0]))

                def row(found: re.Match[bytes]) -> bytes:
                    short = columns - len(re.findall(rb"<a:tc[ >/]", found[0]))
                    at = found[0].rfind(b"</a:tc>") + len(b"</a:tc>")
                    return found[0][:at] + empty * max(short, 0) + found[0][at:]

                return re.sub(rb"<a:tr\b.*?</a:tr>", row, table[0], flags=re.DOTALL)

            self.package.parts[name] = re.sub(rb"<a:tbl>.*?</a:tbl>", padded, data, flags=re.DOTALL)

    # -- diagrams

    def _diagram(self) -> None:
        package, main = self.package, self.main
        pages = [name for name in sorted(package.parts, key=natural) if re.fullmatch(r"visio/pages/page\d+\.xml", name)]
        if main not in package.parts or "visio/pages/pages.xml" not in package.parts or not pages:
            raise NothingLeft("the diagram's own part, its list of pages or all of its pages are lost")
        self._implied_links()

    # -- what is written

    def _drop_dangling(self) -> None:
        """Take out what leads to parts that are not there, and make relationships anew that programs need."""
        package = self.package
        for rels in list(self.links):
            kept = [link for link in self.links[rels] if link.outside or link.target in package.parts]
            self.links[rels] = kept
        for name in list(package.parts):
            if not is_xml(name) or name.endswith(".rels") or not name.startswith(f"{self.top}/"):
                continue
            data = package.read(name)
            if b" r:" not in data:
                continue
            known = {link.ident.encode() for link in self._of(name)}
            gone = {ident for ident in _LINKED.findall(data) if ident and ident not in known}
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
            return not gone.isdisjoint(_LINKED.findall(found[0]))

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
        data = _LINKED.sub(lambda f: b"" if f[1] in gone else f[0], data)
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


def _told(raw: bytes) -> dict[str, str]:
    return attributes(raw.decode("utf-8", "replace"))


def _idents(tags: Sequence[bytes]) -> list[str]:
    """The relationship ids of tags that have another id too."""
    return [next((v for k, v in _told(tag).items() if ":" in k and k.endswith(":id")), "") for tag in tags]


def _free(links: Sequence[Link]) -> str:
    taken = {link.ident for link in links}
    return next(f"rf{n}" for n in range(1, len(taken) + 2) if f"rf{n}" not in taken)


def _unused(name: str, taken: Sequence[str]) -> str:
    small = {each.casefold() for each in taken}
    if name.casefold() not in small:
        return name
    return next(f"{name[:25]} ({n})" for n in range(2, len(taken) + 3) if f"{name[:25]} ({n})".casefold() not in small)
