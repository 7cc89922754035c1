"""Workbooks put together again: the list of sheets, shared texts, styles.

Source: ECMA-376 part 1, 12.3 (parts), 18.2 (workbooks), 18.3 (sheets), 18.4 (shared strings), 18.8 (styles).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from rustfern.repair import ooxml_skeletons as made
from rustfern.repair.interface import LossKind, Step
from rustfern.repair.ooxml_grammar import SHEET_STYLES, R, S, row_mark
from rustfern.repair.ooxml_work import Work, attributes_of
from rustfern.repair.package import natural
from rustfern.repair.xml_mend import first_fault, mend

_SHEET_TAG = re.compile(rb"<(?:\w+:)?sheet\b([^>]*)/?>")
_SHARED = re.compile(rb"<c\b[^<>]*\bt=\"s\"[^<>]*>(?:<f\b[^<>]*?(?:/>|>[^<]*</f>))?<v>(\d{1,9})</v>")
_STYLE = re.compile(rb"<(?:c|row|col)\b[^<>]*?\b(?:s|style)=\"(\d{1,6})\"")
_ITEM = re.compile(rb"<si(?=[\s/>])")
_ITEMS = re.compile(rb"<si(?=[\s/>])[^>]*?(?:/>|>.*?</si>)", re.DOTALL)
_SHOWN_TEXT = re.compile(rb"<t\b[^<>]*>\s*[^<\s][^<]*</t>")
_MOST_STRINGS = 5_000_000


class Workbook(Work):
    """A workbook while it is worked on."""

    def assemble(self) -> None:
        """A workbook whose sheets and texts are those that are there."""
        package, main = self.package, self.main
        raw = package.content(main).data if main in package.found else b""
        if main in package.parts and first_fault(package.read(main)) is None:
            raw = package.read(main)
        listed = [
            (told.get("name", ""), next((v for k, v in told.items() if k.endswith(":id")), ""))
            for told in map(attributes_of, _SHEET_TAG.findall(raw))
        ]
        self.link_by_order(main, [ident for _, ident in listed], self.unlinked(r"xl/worksheets/[^/]+\.xml"), None)
        targets = {link.ident: link.target for link in self.links_of(main)}
        known = {targets.get(ident) for _, ident in listed}
        rest = [name for name in self._worksheets() if name not in known]
        missing = [name for name, ident in listed if targets.get(ident) not in package.parts]
        if rest or missing or main not in package.parts:
            self._make_workbook(listed, targets, rest, raw)
        self.add_implied_links()
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
        others = [
            link for link in self.links_of(main) if link.target not in wanted and "/worksheets/" not in link.target
        ]
        self.set_links(main, [*others])
        idents = [(name, self.add_link(main, target)) for name, target in names]
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
        if name is not None:
            self._clear_impossible(name)
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
            # Garbage may have put one text into another.
            items = [each if first_fault(each) is None else _plain_item(each) for each in items]
            items = self._aligned(name, items, data, most)
            name = name or "xl/sharedStrings.xml"
            package.parts[name] = made.strings(items)
            if not any(link.target == name for link in self.links_of(self.main)):
                self.set_links(
                    self.main, [link for link in self.links_of(self.main) if not link.kind.endswith("/sharedStrings")]
                )
                self.add_link(self.main, name)
        if rows_lost and (stray := [n for n, item in enumerate(items) if n not in used and _SHOWN_TEXT.search(item)]):
            rows = [row_mark("[texts whose cells are lost]")] if self.job.marks else []
            rows += [b'<row><c t="s"><v>%d</v></c></row>' % n for n in stray if items[n] != self._filler()]
            self._add_sheet("Texts without cells", made.sheet(b"".join(rows)))

    def _clear_impossible(self, name: str) -> None:
        """Cells of mended sheets whose number of a text is higher than there ever were texts: the number itself is damaged."""
        package = self.package
        mended = [each for each in self._worksheets() if isinstance(package.parts[each], bytes)]
        if not mended:
            return
        data = package.read(name)
        count = re.search(rb"<sst\b[^>]*\buniqueCount=\"(\d{1,8})\"", data)
        if count is None and isinstance(package.parts[name], bytes):
            return
        limit = max(len(_ITEM.findall(data)), int(count[1]) if count else 0)
        text = b"[this text is missing]" if self.job.marks else b""

        def cleared(cell: re.Match[bytes]) -> bytes:
            if int(cell[1]) < limit:
                return cell[0]
            head = cell[0][: cell[0].index(b">") + 1]
            return head.replace(b't="s"', b't="str"') + b"<v>" + text + b"</v>"

        for sheet in mended:
            raw = package.read(sheet)
            if any(int(told) >= limit for told in _SHARED.findall(raw)):
                package.parts[sheet] = _SHARED.sub(cleared, raw)
                package.loses(LossKind.CELL_TEXTS, sheet, 1)

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
        ident = self.add_link(main, target)
        raw = package.read(main)
        listed = [attributes_of(tag) for tag in _SHEET_TAG.findall(raw)]
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
        self.set_links(self.main, [link for link in self.links_of(self.main) if link.target != "xl/styles.xml"])
        self.add_link(self.main, "xl/styles.xml")


def _plain_item(item: bytes) -> bytes:
    """A shared text without what garbage made of its markup."""
    return b"<si><t>" + re.sub(rb"<[^<>]*>|[<>]|&(?!\w+;)", b"", item) + b"</t></si>"


def _unused(name: str, taken: Sequence[str]) -> str:
    small = {each.casefold() for each in taken}
    if name.casefold() not in small:
        return name
    return next(f"{name[:25]} ({n})" for n in range(2, len(taken) + 3) if f"{name[:25]} ({n})".casefold() not in small)
