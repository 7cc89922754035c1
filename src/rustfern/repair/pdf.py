"""PDF put together again: its objects, its pages in the order of their own tree or of their places, a new table.

Source: ISO 32000-1: 7.5.5 (trailer), 7.7.2 (catalogue), 7.7.3 (pages, 7.7.3.4 inherited attributes), 7.8 (contents and resources), 8.9.5 (images),
9.9 (font programs).
"""

from __future__ import annotations

import re
from typing import Any, BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.pages.pdf_filters import check_picture
from rustfern.repair.deflate_resume import inflate_zlib
from rustfern.repair.interface import MAX_HELD_BYTES, Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.pdf_content import whole_operators
from rustfern.repair.pdf_objects import (
    Broken,
    Found,
    Raw,
    Ref,
    decoded,
    filters,
    find_objects,
    name_of,
    number_of,
    packed,
    stream_bytes,
    unpacked,
    value,
    write,
)

_A4 = [Raw(b"0"), Raw(b"0"), Raw(b"595"), Raw(b"842")]
_INHERITED = ("Resources", "MediaBox", "CropBox", "Rotate")
_FONT_FILES = ("FontFile", "FontFile2", "FontFile3")
_MOST_PAGES = 100_000
_UNPACKED = frozenset({"FlateDecode", "Fl", "ASCII85Decode", "A85", "ASCIIHexDecode", "AHx"})
_TEXT = re.compile(rb"\bBT\b.*?\bET\b", re.DOTALL)
_CONTENT = re.compile(rb"(?:^|\s)(?:BT|re|cm|Do|l|m|S|f)(?=\s)")
_FONT = re.compile(rb"/([^\s/]+)\s+[\d.]+\s+Tf")


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a whole document. Raises `NothingLeft`."""
    return _Document(job.data(MAX_HELD_BYTES, in_part=True), job).run(out)


class _Document:
    """One document while it is put together."""

    def __init__(self, data: bytes, job: Job) -> None:
        self.data, self.job = data, job
        self.objects = find_objects(data, job.budget)
        if not self.objects:
            raise NothingLeft("no object of the document can be read")
        self.lost: list[Loss] = []
        self.steps: list[Step] = [Step.OBJECTS]
        self.free = max(self.objects) + 1
        if job.size > len(data):
            self.lost.append(Loss(LossKind.REST, "", 0, len(data)))
        self.trailer = self._trailer()

    def run(self, out: BinaryIO) -> Outcome:
        """Mend the streams, order the pages, write."""
        if "Encrypt" in self.trailer:
            raise NothingLeft("it is encrypted: only what opens it first can help")
        for number in [n for n, each in self.objects.items() if name_of(each.facts.get("Type")) in ("ObjStm", "XRef")]:
            del self.objects[number]
        pages = self._pages()
        self._mend_streams()
        pages += self._orphans(pages)
        if not pages:
            raise NothingLeft("no page and no content of one is left")
        root = self._catalogue(pages)
        self._drop_missing()
        info = self.trailer.get("Info")
        info_number = info.number if isinstance(info, Ref) and info.number in self.objects else None
        ident = self.trailer.get("ID")
        write(out, self.data, self.objects, root, info_number, ident if isinstance(ident, list) else None)
        return Outcome(
            self.job.format if self.job.format in ("pdf", "ai") else "pdf",
            tuple(dict.fromkeys(self.steps)),
            tuple(self.lost),
        )

    def _trailer(self) -> dict[str, Any]:
        """What any trailer, or table that is a stream, says; the last one first."""
        told: dict[str, Any] = {}
        for found in re.finditer(rb"trailer\s*(?=<<)", self.data):
            try:
                each, _ = value(self.data, found.end())
            except (Broken, RecursionError):
                continue
            told.update(each)
        for table in sorted(self.objects.values(), key=lambda it: it.at):
            if name_of(table.facts.get("Type")) == "XRef":
                told.update({key: table.facts[key] for key in ("Root", "Info", "ID", "Encrypt") if key in table.facts})
        return told

    def _get(self, told: Any) -> Any:
        for _ in range(8):
            if not isinstance(told, Ref):
                return told
            each = self.objects.get(told.number)
            told = each.value if each is not None else None
        return None

    def _add(self, told: Any, made: bytes | None = None) -> Ref:
        number = self.free
        self.free += 1
        self.objects[number] = Found(number, told, -1, made=made)
        return Ref(number)

    # -- pages

    def _root(self) -> dict[str, Any]:
        root = self._get(self.trailer.get("Root"))
        if not isinstance(root, dict):
            found = [each.facts for each in self.objects.values() if name_of(each.facts.get("Type")) == "Catalog"]
            root = found[-1] if found else {}
        return dict(root)

    def _pages(self) -> list[Ref]:
        """The pages in their order; those that no tree leads to stand behind, in the order of their places."""
        ordered: list[Ref] = []
        seen: set[int] = set()
        missing = 0
        stack: list[tuple[Any, dict[str, Any]]] = [(self._root().get("Pages"), {})]
        if not isinstance(self._get(stack[0][0]), dict):
            tops = [
                n
                for n, each in self.objects.items()
                if name_of(each.facts.get("Type")) == "Pages" and "Parent" not in each.facts
            ]
            stack = [(Ref(n), {}) for n in reversed(tops)]
        while stack and len(ordered) < _MOST_PAGES:
            told, inherited = stack.pop()
            if not isinstance(told, Ref) or told.number in seen:
                continue
            seen.add(told.number)
            node = self._get(told)
            if not isinstance(node, dict):
                missing += 1
                ordered.append(self._mark_page(f"[page {len(ordered) + 1} is missing]"))
                continue
            if "Kids" in node:
                below = inherited | {key: node[key] for key in _INHERITED if key in node}
                kids = self._get(node["Kids"])
                stack += [(kid, below) for kid in reversed(kids if isinstance(kids, list) else [])]
            elif name_of(node.get("Type")) in ("Page", "") or "Contents" in node:
                for key, told_above in inherited.items():
                    node.setdefault(key, told_above)
                ordered.append(told)
        others = [
            each for n, each in sorted(self.objects.items(), key=lambda item: (item[1].at, item[0]))
            if name_of(each.facts.get("Type")) == "Page" and n not in seen
        ]  # fmt: skip
        for each in others:
            self._inherit(each.facts)
            ordered.append(Ref(each.number))
        if missing:
            self.lost.append(Loss(LossKind.PAGES, "", missing))
            if not self.job.marks:
                ordered = [ref for ref in ordered if ref.number < self.free and self.objects[ref.number].at != -1]
        for ref in ordered:
            self._page(ref)
        return ordered

    def _inherit(self, page: dict[str, Any]) -> None:
        above, steps = self._get(page.get("Parent")), 0
        while isinstance(above, dict) and steps < 50:
            for key in _INHERITED:
                if key in above:
                    page.setdefault(key, above[key])
            above, steps = self._get(above.get("Parent")), steps + 1

    def _page(self, ref: Ref) -> None:
        page = self.objects[ref.number].facts
        page["Type"] = Raw(b"/Page")
        if not isinstance(self._get(page.get("MediaBox")), list):
            page["MediaBox"] = _A4
        if not isinstance(self._get(page.get("Resources")), dict):
            page["Resources"] = self._likely_resources()
        contents = self._get(page.get("Contents"))
        parts = contents if isinstance(contents, list) else [page.get("Contents")]
        lost = [part for part in parts if isinstance(part, Ref) and part.number not in self.objects]
        if lost:
            kept = [part for part in parts if part not in lost]
            page["Contents"] = (
                [*kept, self._mark_content("[a part of this page is missing]", page)] if self.job.marks else kept
            )
            self.lost.append(Loss(LossKind.PARTS, f"page {ref.number}", len(lost)))

    def _likely_resources(self) -> Any:
        """Resources of a page whose own are lost: those that stand alone in the document, if there are any."""
        for number, each in self.objects.items():
            if isinstance(each.facts.get("Font"), (dict, Ref)) and "Type" not in each.facts:
                return Ref(number)
        return {}

    def _mark_page(self, text: str) -> Ref:
        page: dict[str, Any] = {"Type": Raw(b"/Page"), "MediaBox": _A4, "Resources": {}}
        page["Contents"] = self._mark_content(text, page)
        return self._add(page)

    def _mark_content(self, text: str, page: dict[str, Any]) -> Ref:
        resources = self._get(page.get("Resources"))
        resources = dict(resources) if isinstance(resources, dict) else {}
        fonts = self._get(resources.get("Font"))
        font = {
            "Type": Raw(b"/Font"),
            "Subtype": Raw(b"/Type1"),
            "BaseFont": Raw(b"/Helvetica"),
            "Encoding": Raw(b"/WinAnsiEncoding"),
        }
        resources["Font"] = {**(fonts if isinstance(fonts, dict) else {}), "RustFernMark": font}
        page["Resources"] = resources
        safe = text.encode("latin-1", "replace").replace(b"\\", b"\\\\").replace(b"(", b"\\(").replace(b")", b"\\)")
        return self._add({}, b"q BT /RustFernMark 11 Tf 1 0 0 rg 40 24 Td (" + safe + b") Tj ET Q")

    # -- streams

    def _mend_streams(self) -> None:
        """Streams that break are packed anew as far as they go; a font program that breaks is left out, a picture filled up."""
        for number, each in list(self.objects.items()):
            self.job.budget.spend()
            if not each.is_stream or each.made is not None:
                continue
            names = filters(each)
            flate = bool(names) and all(name in _UNPACKED for name in names)
            if not flate and each.whole:
                self._unpacked_stream(number, each, names)
                continue
            plain, whole = unpacked(self.data, each)
            if whole:
                continue
            kind = name_of(each.facts.get("Subtype"))
            if kind == "Image":
                self._picture(each, plain, names)
            elif self._is_font_file(number):
                del self.objects[number]
                self.lost.append(Loss(LossKind.STYLES, f"font {number}"))
            elif not plain.strip(b"\0\r\n "):
                each.made, each.start = b"", -1
                each.facts.pop("Filter", None)
                each.facts.pop("DecodeParms", None)
                self.lost.append(Loss(LossKind.PARTS, f"object {number}", 1))
            else:
                at = plain.find(b"\0" * 16)
                plain = plain[:at] if at >= 0 and _CONTENT.search(plain) else plain
                if _CONTENT.search(plain[:4096]) and not each.facts.get("DecodeParms"):
                    plain = whole_operators(plain)
                each.facts["Filter"] = Raw(b"/FlateDecode")
                if isinstance(parms := each.facts.get("DecodeParms"), list):
                    each.facts["DecodeParms"] = parms[-1] if parms else {}
                each.made = packed(plain)
                self.lost.append(Loss(LossKind.REST, f"object {number}", 0, len(plain)))

    def _is_font_file(self, number: int) -> bool:
        return any(
            isinstance(told := each.facts.get(key), Ref) and told.number == number
            for each in self.objects.values()
            for key in _FONT_FILES
        )

    def _picture(self, each: Found, plain: bytes, names: list[str]) -> None:
        facts = each.facts
        if names and names[0] in ("FlateDecode", "Fl") and len(names) == 1:
            components = {"DeviceGray": 1, "DeviceRGB": 3, "DeviceCMYK": 4}.get(
                name_of(self._get(facts.get("ColorSpace"))), 0
            )
            space = self._get(facts.get("ColorSpace"))
            if isinstance(space, list) and space and name_of(space[0]) == "ICCBased" and len(space) > 1:
                profile = self._get(space[1])
                components = number_of(profile.get("N"), 3) if isinstance(profile, dict) else 3
            bits, wide, high = (number_of(self._get(facts.get(key))) for key in ("BitsPerComponent", "Width", "Height"))
            need = (wide * max(components, 1) * max(bits, 1) + 7) // 8 * high
            if facts.get("DecodeParms"):
                need += high
            if 0 < need <= 256 << 20:
                each.made = packed(plain[:need].ljust(need, b"\0" if facts.get("DecodeParms") else b"\xff"))
                self.lost.append(Loss(LossKind.REST, f"picture {each.number}", 0, len(plain)))
                return
        # A grey field stands in its place.
        kept = {key: facts[key] for key in ("Type", "Subtype") if key in facts}
        grey = {"Width": b"1", "Height": b"1", "BitsPerComponent": b"8"}
        each.value = kept | {key: Raw(told) for key, told in grey.items()} | {"ColorSpace": Raw(b"/DeviceGray")}
        each.made, each.start = b"\xc0", -1
        self.lost.append(Loss(LossKind.PICTURES, f"picture {each.number}", 1))

    def _unpacked_stream(self, number: int, each: Found, names: list[str]) -> None:
        """A stream that no sum protects: a picture is read by its own format, contents stop at a hole."""
        raw = stream_bytes(self.data, each)
        if names[:1] in (["DCTDecode"], ["DCT"]):
            try:
                check_picture(raw, 0)
            except Malformed as error:
                if not isinstance(error, Refused):
                    self._picture(each, b"", names)
        elif not names and (hole := raw.find(bytes(64))) >= 0 and _CONTENT.search(raw[:4096]):
            each.made = whole_operators(raw[:hole])
            self.lost.append(Loss(LossKind.REST, f"object {number}", 0, hole))

    # -- contents without a page

    def _orphans(self, pages: list[Ref]) -> list[Ref]:
        """Pages for contents to which no page leads: their lines and pictures, and their text where its fonts are there."""
        used = {ref.number for page in pages for ref in self._content_refs(page)}
        referred = self._referred()
        out = []
        for number, each in sorted(self.objects.items(), key=lambda item: item[1].at):
            if (
                number in used
                or number in referred
                or not each.is_stream
                or each.facts.get("Type")
                or each.facts.get("Subtype")
                or each.at < 0
            ):
                continue
            if each.facts.keys() - {"Length", "Filter", "DecodeParms"}:
                continue
            plain, _ = decoded(self.data, each) if each.made is None else (b"", False)
            if each.made is not None:
                plain = inflate_zlib(each.made)[0]
            if len(_CONTENT.findall(plain[:65536])) < 3:
                continue
            page, known = {"Type": Raw(b"/Page"), "MediaBox": _A4, "Resources": self._likely_resources()}, True
            fonts = self._fonts(page["Resources"])
            if {found.decode("latin-1") for found in _FONT.findall(plain)} - fonts:
                known = False
                end = plain.rfind(b"ET") + 2  # behind it none of them ends
                plain = _TEXT.sub(b" ", plain[:end]) + plain[end:]
            content = self._add({"Filter": Raw(b"/FlateDecode")}, packed(plain))
            page["Contents"] = [content]
            if self.job.marks and not known:
                page["Contents"].append(
                    self._mark_content("[the text of this page is lost: its fonts are missing]", page)
                )
            if not known:
                self.lost.append(Loss(LossKind.WORDS, f"object {number}"))
            out.append(self._add(page))
        if out:
            self.steps.append(Step.RUNS)
            self.lost.append(Loss(LossKind.PAGES))
        return out

    def _fonts(self, resources: Any) -> set[str]:
        told = self._get(resources)
        fonts = self._get(told.get("Font")) if isinstance(told, dict) else None
        return (
            {name for name, font in fonts.items() if isinstance(self._get(font), dict)}
            if isinstance(fonts, dict)
            else set()
        )

    def _content_refs(self, page: Ref) -> list[Ref]:
        told = self.objects[page.number].facts.get("Contents")
        inner = self._get(told)
        return [each for each in (inner if isinstance(inner, list) else [told]) if isinstance(each, Ref)]

    def _referred(self) -> set[int]:
        found: set[int] = set()

        def walk(told: Any) -> None:
            if isinstance(told, Ref):
                found.add(told.number)
            elif isinstance(told, dict):
                for item in told.values():
                    walk(item)
            elif isinstance(told, list):
                for item in told:
                    walk(item)

        for each in self.objects.values():
            walk(each.value)
        return found

    # -- what is written

    def _catalogue(self, pages: list[Ref]) -> int:
        top = self._add({"Type": Raw(b"/Pages"), "Count": Raw(b"%d" % len(pages)), "Kids": list(pages)})
        for ref in pages:
            self.objects[ref.number].facts["Parent"] = top
        told = {
            key: item for key, item in self._root().items() if key not in ("Pages", "Type", "Version", "Extensions")
        }
        told = {key: item for key, item in told.items() if not isinstance(item, Ref) or item.number in self.objects}
        return self._add({"Type": Raw(b"/Catalog"), "Pages": top, **told}).number

    def _drop_missing(self) -> None:
        """References to objects that are not there become null, which programs know (7.3.10); private data of drawings that breaks goes."""

        def mended(told: Any) -> Any:
            if isinstance(told, Ref):
                return told if told.number in self.objects else Raw(b"null")
            if isinstance(told, dict):
                made = {key: mended(item) for key, item in told.items()}
                return {key: item for key, item in made.items() if item != b"null" or not isinstance(item, Raw)}
            if isinstance(told, list):
                return [mended(item) for item in told]
            return told

        for each in self.objects.values():
            if name_of(each.facts.get("Type")) == "Pages" and each.at >= 0:
                each.value = Raw(b"null")
                each.start, each.made = -1, None
                continue
            each.value = mended(each.value)
