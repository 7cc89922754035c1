"""OOXML packages put together again: texts and diagrams, and which kind a package is.

Source: ECMA-376 part 1, 11.3 (parts of texts), 17.10 (headers), 17.11 (notes); part 2, 6.2.
"""

from __future__ import annotations

import re
from typing import BinaryIO

from rustfern.repair import ooxml_skeletons as made
from rustfern.repair.interface import Job, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.ooxml_binary import BinaryWorkbook
from rustfern.repair.ooxml_grammar import word_mark
from rustfern.repair.ooxml_sheets import Workbook
from rustfern.repair.ooxml_slides import Presentation
from rustfern.repair.ooxml_work import Work, kind_of_package
from rustfern.repair.package import Package, natural


class TextDocument(Work):
    """A text while it is worked on."""

    def assemble(self) -> None:
        """A text, its headers and pictures linked again."""
        package, main = self.package, self.main
        if main not in package.parts:
            blocks = b"".join(self._stories())
            mark = word_mark("[the text of the document is missing]") if self.job.marks else b""
            package.parts[main] = made.text_document(mark + blocks if mark or blocks else b"<w:p/>")
            package.did(Step.SKELETON)
            package.loses(LossKind.REST, main)
        for kind in ("footnote", "endnote", "comment"):
            self._make_notes(kind)
        self.add_implied_links()
        body = package.read(main)
        headers = re.findall(rb"<w:(?:header|footer)Reference\b[^>]*?r:id=\"([^\"]+)\"", body)
        for kind in ("header", "footer"):
            ids = [i.decode() for i in re.findall(rb"<w:%bReference\b[^>]*?r:id=\"([^\"]+)\"" % kind.encode(), body)]
            self.link_by_order(main, ids, self.unlinked(rf"word/{kind}\d*\.xml"), None)
        if headers or b"r:embed" in body:
            pictures = [i.decode() for i in re.findall(rb"r:embed=\"([^\"]+)\"", body)]
            self.link_by_order(main, pictures, self.unlinked(r"word/media/[^/]+"), LossKind.ORDER)

    def _make_notes(self, kind: str) -> None:
        """Notes to which the text refers and that are lost, anew: programs refuse a text that refers to notes that do not exist."""
        package = self.package
        refers = re.compile(rb"<w:%bReference\b[^>]*?\bw:id=\"(-?\d{1,9})\"" % kind.encode())
        rules = re.compile(rb"<w:%b\b[^>]*?\bw:id=\"(-?\d{1,9})\"" % kind.encode())
        stories = [
            self.main,
            *(name for name in package.parts if re.fullmatch(r"word/(?:footnotes|endnotes)\.xml", name)),
        ]
        wanted = [ident for name in stories for ident in refers.findall(package.read(name))]
        settings = package.read("word/settings.xml") if kind != "comment" else b""
        lines = rules.findall(settings)
        name = next(
            (link.target for link in self.links_of(self.main) if link.kind.endswith(f"/{kind}s")), f"word/{kind}s.xml"
        )
        data = package.read(name) if name in package.parts else made.notes(kind, b"")
        known = set(rules.findall(data))
        missing = [ident for ident in dict.fromkeys(wanted) if ident not in known]
        # The lines above notes are notes of their own, of which settings tell.
        above = [ident for ident in dict.fromkeys(lines) if ident not in known and ident not in missing]
        if not missing and not (above and name not in package.parts):
            return
        text = word_mark(f"[this {kind} is missing]") if self.job.marks else b"<w:p/>"
        fresh = b"".join(made.note(kind, ident, text) for ident in missing)
        lined = b"".join(made.separator(kind, ident, is_first=not n) for n, ident in enumerate(above))
        end = data.rindex(b"</")
        package.parts[name] = data[:end] + lined + fresh + data[end:]
        package.did(Step.SKELETON)
        if missing and not any(loss.where == name for loss in package.lost):
            package.loses(LossKind.PARAGRAPHS, name, len(missing))

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


class Diagram(Work):
    """A diagram while it is worked on."""

    def assemble(self) -> None:
        """A diagram, if its list of pages is there."""
        package, main = self.package, self.main
        pages = [name for name in sorted(package.parts, key=natural) if re.fullmatch(r"visio/pages/page\d+\.xml", name)]
        if main not in package.parts or "visio/pages/pages.xml" not in package.parts or not pages:
            raise NothingLeft("the diagram's own part, its list of pages or all of its pages are lost")
        self.add_implied_links()


_BINARY = re.compile(r"xl/(?:workbook|sharedStrings\d*|worksheets/[^/]+)\.bin")
_KINDS: dict[str, type[Work]] = {"word": TextDocument, "xl": Workbook, "ppt": Presentation, "visio": Diagram}


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a whole package. Raises `Malformed`."""
    data = job.whole()
    package = Package(data, job)
    top = kind_of_package(package)
    is_binary = top == "xl" and any(_BINARY.fullmatch(name) for name in package.found)
    kind = BinaryWorkbook if is_binary else _KINDS[top]
    return kind(package, top).run(out)
