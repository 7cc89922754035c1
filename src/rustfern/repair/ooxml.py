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
        self.add_implied_links()
        body = package.read(main)
        headers = re.findall(rb"<w:(?:header|footer)Reference\b[^>]*?r:id=\"([^\"]+)\"", body)
        for kind in ("header", "footer"):
            ids = [i.decode() for i in re.findall(rb"<w:%bReference\b[^>]*?r:id=\"([^\"]+)\"" % kind.encode(), body)]
            self.link_by_order(main, ids, self.unlinked(rf"word/{kind}\d*\.xml"), None)
        if headers or b"r:embed" in body:
            pictures = [i.decode() for i in re.findall(rb"r:embed=\"([^\"]+)\"", body)]
            self.link_by_order(main, pictures, self.unlinked(r"word/media/[^/]+"), LossKind.ORDER)

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
