"""Presentations put together again: their slides in order, each on a layout, a master and a theme.

Source: ECMA-376 part 1, 13.3 (parts), 19.2.1 (presentations), 21.1.3 (tables).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from rustfern.repair import ooxml_skeletons as made
from rustfern.repair.interface import LossKind, Step
from rustfern.repair.ooxml_grammar import R
from rustfern.repair.ooxml_work import LINKED, Work, attributes_of, free_ident
from rustfern.repair.package import Link, natural
from rustfern.repair.xml_mend import first_fault, mark_of

_SLIDE_TAG = re.compile(rb"<(?:\w+:)?sldId\b([^>]*)/?>")


class Presentation(Work):
    """A presentation while it is worked on."""

    def assemble(self) -> None:
        """A presentation of the slides that are there, with marks for those that are not."""
        package, main = self.package, self.main
        raw = package.read(main) or (package.content(main).data if main in package.found else b"")
        targets = {link.ident: link.target for link in self.links_of(main)}
        order = [targets[i] for i in _idents(_SLIDE_TAG.findall(raw)) if i in targets]
        there = [name for name in sorted(package.parts, key=natural) if re.fullmatch(r"ppt/slides/[^/]+\.xml", name)]
        if not order:
            order = sorted((link.target for link in self.links_of(main) if link.kind.endswith("/slide")), key=natural)
        order += [name for name in there if name not in order]
        lost = [name for name in order if name not in package.parts]
        self._drop_notes()
        size = re.search(rb"<p:sldSz\b[^>]*?/>", raw)
        layouts = self._layouts()
        for name in lost:
            package.loses(LossKind.SLIDES, name, 1)
            package.parts[name] = made.slide(f"[slide {order.index(name) + 1} is missing]" if self.job.marks else "")
            self.set_links(name, [])
        if not there and not lost:
            package.loses(LossKind.REST, main)
        if self.job.marks and package.cut_off and main not in package.parts:
            name = f"ppt/slides/slide{9000 + len(order)}.xml"
            package.parts[name] = made.slide(mark_of(0, "slides"))
            order.append(name)
            package.loses(LossKind.SLIDES)
        for name in order:
            links = [link for link in self.links_of(name) if link.outside or link.target in package.parts]
            if not any(link.kind.endswith("/slideLayout") for link in links):
                links.append(Link(free_ident(links), f"{R}/slideLayout", layouts[0]))
                package.did(Step.SKELETON)
            self.set_links(name, links)
        if lost or not package.read(main) or first_fault(package.read(main)) is not None or self._dangling_main():
            self._make_presentation(order, size[0].decode() if size else "")
        self._pad_tables(order)

    def _drop_notes(self) -> None:
        """Notes that do not say on which slide they rest, and a master of notes without its theme, are left out."""
        parts = self.package.parts
        for pattern, needed in ((r"ppt/notesMasters/[^/]+\.xml", "/theme"), (r"ppt/notesSlides/[^/]+\.xml", "/slide")):
            for name in [each for each in parts if re.fullmatch(pattern, each)]:
                if not any(link.kind.endswith(needed) and link.target in parts for link in self.links_of(name)):
                    del parts[name]
                    if needed == "/slide":
                        self.package.loses(LossKind.PARTS, name, 1)

    def _dangling_main(self) -> bool:
        ids = {i.decode() for i in LINKED.findall(self.package.read(self.main))}
        return not ids <= {
            link.ident for link in self.links_of(self.main) if link.outside or link.target in self.package.parts
        }

    def _layouts(self) -> list[str]:
        """The layouts that rest on a master with a theme, which are made where there are none."""
        package = self.package
        masters = []
        for name in sorted(package.parts, key=natural):
            if re.fullmatch(r"ppt/slideMasters/[^/]+\.xml", name):
                links = [link for link in self.links_of(name) if link.outside or link.target in package.parts]
                if any(link.kind.endswith("/theme") for link in links) and any(
                    link.kind.endswith("/slideLayout") for link in links
                ):
                    masters.append(name)
                else:
                    del package.parts[name]
        layouts = []
        for name in sorted(package.parts, key=natural):
            if re.fullmatch(r"ppt/slideLayouts/[^/]+\.xml", name):
                if any(link.target in masters for link in self.links_of(name)):
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
        self.set_links(layout, [Link("rf1", f"{R}/slideMaster", master)])
        self.set_links(master, [Link("rf1", f"{R}/slideLayout", layout), Link("rf2", f"{R}/theme", theme)])
        package.did(Step.SKELETON)
        package.loses(LossKind.STYLES, "ppt/slideMasters")
        return [layout]

    def _make_presentation(self, order: Sequence[str], size: str) -> None:
        package, main = self.package, self.main
        kept = [link for link in self.links_of(main) if (link.outside or link.target in package.parts) and link.kind.rpartition("/")[2] in (
            "presProps", "viewProps", "tableStyles", "theme", "commentAuthors", "vbaProject")]  # fmt: skip
        self.set_links(main, kept)
        masters = [n for n in sorted(package.parts, key=natural) if re.fullmatch(r"ppt/slideMasters/[^/]+\.xml", n)]
        notes = [
            n for n in package.parts
            if re.fullmatch(r"ppt/notesMasters/[^/]+\.xml", n) and any(link.target in package.parts for link in self.links_of(n))
        ]  # fmt: skip
        package.parts[main] = made.presentation(
            [self.add_link(main, name) for name in masters], [self.add_link(main, name) for name in notes],
            [self.add_link(main, name) for name in order], size,
        )  # fmt: skip
        self.add_implied_links()
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


def _idents(tags: Sequence[bytes]) -> list[str]:
    """The relationship ids of tags that have another id too."""
    return [next((v for k, v in attributes_of(tag).items() if ":" in k and k.endswith(":id")), "") for tag in tags]
