"""Binary presentations put together again: the same streams in a new file where they hold, else the text of their slides as OOXML.

Source: [MS-PPT] 2.1.2 (the newest edit), 2.3.2 (CurrentUserAtom), 2.3.3 (UserEditAtom), 2.5.1 (slides), 2.9.41 and 2.9.43 (text atoms),
2.4.14.5 (SlidePersistAtom); [MS-ODRAW] 2.2.23 (pictures).
"""

from __future__ import annotations

import io
import re
import struct

from rustfern.core.errors import Malformed
from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.formats.office import art_pictures
from rustfern.repair import ooxml_skeletons as made
from rustfern.repair.compound_salvage import CompoundSalvage, Stream
from rustfern.repair.compound_writer import compound
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.ooxml_grammar import A, P, R
from rustfern.repair.xml_mend import escaped, mark_of
from rustfern.repair.zip_writer import ZipWriter

_EDIT = re.compile(rb"\x00\x00\xf5\x0f[\x1c\x20]\x00\x00\x00")
_SLIDE = re.compile(rb"\x0f\x00\xee\x03")
_MASTER = re.compile(rb"\x0f\x00(?:\xf8\x03|\xf0\x03)")
_LISTED = re.compile(rb"\x00\x00\xf3\x03\x14\x00\x00\x00")
_ATOM = re.compile(rb"\x00\x00[\xa0\xa8]\x0f(?=....)", re.DOTALL)
_CLASS = bytes.fromhex("108d81649b4fcf1186ea00aa00b929e8")
_LONGEST = 1 << 20
_CONTROLS = re.compile("[\x00-\x08\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


def repair(job: Job, found: CompoundSalvage) -> tuple[bytes, Outcome]:
    """A whole presentation. Raises `NothingLeft`."""
    main = found.find("PowerPoint Document") or found.by_first_bytes(b"\x0f\x00\xe8\x03")
    if main is None:
        raise NothingLeft("the stream of the presentation is lost")
    pictures = found.find("Pictures") or _pictures_chain(found)
    for last in reversed([each.start() for each in _EDIT.finditer(main.data)][-8:]):
        streams = {"PowerPoint Document": main.data, "Current User": _current(last)}
        lost: list[Loss] = []
        if pictures is not None:
            kept, whole = _whole_pictures(pictures.data)
            if kept:
                streams["Pictures"] = kept
            if not whole or not pictures.whole:
                lost.append(Loss(LossKind.PICTURES))
        elif b"\x07\xf0" in main.data:
            lost.append(Loss(LossKind.PICTURES))
        for path, stream in found.streams.items():
            if path.startswith("\x05") and stream.whole and stream.data:
                streams[path] = stream.data
        data = compound(streams, _CLASS)
        if formats.check(io.BytesIO(data), job.name, digest=False, counted=False).state is State.INTACT:
            return data, Outcome("ppt", (Step.CHAINS, Step.CONTAINER, Step.SKELETON), tuple(lost))
    slides = _slides(main.data)
    if not any(slides):
        raise NothingLeft("no text of its slides is left in it")
    lost = [
        Loss(LossKind.SLIDES),
        Loss(LossKind.FORMAT, "OOXML presentation (pptx)"),
        Loss(LossKind.STYLES),
        Loss(LossKind.PICTURES),
    ]
    return _as_pptx(slides, job), Outcome("pptx", (Step.CHAINS, Step.RUNS), tuple(lost))


def _current(edit: int) -> bytes:
    """The stream that says where the newest edit is."""
    name = b"Rust Fern"
    body = struct.pack("<IIIHHBBH", 0x14, 0xE391C05F, edit, len(name), 0x03F4, 3, 0, 0) + name + struct.pack("<I", 8)
    return struct.pack("<HHI", 0, 0x0FF6, len(body)) + body


def _pictures_chain(found: CompoundSalvage) -> Stream | None:
    """The stream of pictures, whose entry is lost: a chain that begins with one."""
    signs = [
        struct.pack("<HH", instance << 4, kind)
        for kind in range(0xF01A, 0xF02A)
        for instance in (0x46A, 0x46B, 0x6E0, 0x6E1, 0x3D4, 0x216, 0x542, 0x7A8)
    ]
    return found.by_first_bytes(*signs)


def _whole_pictures(data: bytes) -> tuple[bytes, bool]:
    """The pictures in front of the first that is not whole, and whether that is all of them."""
    at = 0
    while at + 8 <= len(data):
        length = struct.unpack_from("<I", data, at + 4)[0]
        end = at + 8 + length
        if end > len(data) or not length:
            break
        try:
            art_pictures.check_stored(data[at:end])
        except Malformed:
            break
        if bytes(512) in data[at:end] and not data[at:end].strip(b"\0"):
            break
        at = end
    return data[:at], at >= len(data.rstrip(b"\0"))


def _slides(data: bytes) -> list[list[str]]:
    """The texts of the slides: of their own containers, and of the list that names them."""
    marks = sorted([*((each.start(), "slide") for each in _SLIDE.finditer(data)), *((each.start(), "other") for each in _MASTER.finditer(data)),
                    *((each.start(), "listed") for each in _LISTED.finditer(data))])  # fmt: skip
    own: list[list[str]] = []
    listed: list[list[str]] = []
    for number, (start, kind) in enumerate(marks):
        end = marks[number + 1][0] if number + 1 < len(marks) else len(data)
        if kind == "other":
            continue
        texts = _texts(data[start:end])
        (own if kind == "slide" else listed).append(texts)
    listed = [each for each in listed if each]
    if len(listed) == len(own):
        return [
            [*first, *(text for text in second if text not in first)] for first, second in zip(listed, own, strict=True)
        ]
    out = [each for each in own if each]
    known = {text for each in out for text in each}
    out += [each for each in listed if not known.issuperset(each)]
    if not out:
        out = [_texts(data)]
    return out


def _texts(data: bytes) -> list[str]:
    out = []
    at = 0
    while (found := _ATOM.search(data, at)) is not None:
        kind, length = data[found.start() + 2], struct.unpack_from("<I", data, found.end())[0]
        begin = found.end() + 4
        at = found.end()
        if not 0 < length <= min(_LONGEST, len(data) - begin + 4096):
            continue
        raw = data[begin : begin + length]
        text = raw.decode("utf-16-le" if kind == 0xA0 else "latin-1", "ignore")
        text = _CONTROLS.sub("", text.replace("\x0b", "\n")).strip()
        if text and "\ufffd" not in text:
            out.append(text)
            at = begin + len(raw)
    return out


def _as_pptx(slides: list[list[str]], job: Job) -> bytes:
    """A package whose slides hold these texts."""
    parts: dict[str, bytes] = {
        "ppt/slideLayouts/slideLayout1.xml": made.layout(), "ppt/slideMasters/slideMaster1.xml": made.master(["rf1"]), "ppt/theme/theme1.xml": made.theme(),
        "ppt/slideLayouts/_rels/slideLayout1.xml.rels": made.relationships([("rf1", f"{R}/slideMaster", "../slideMasters/slideMaster1.xml", False)]),
        "ppt/slideMasters/_rels/slideMaster1.xml.rels": made.relationships(
            [("rf1", f"{R}/slideLayout", "../slideLayouts/slideLayout1.xml", False), ("rf2", f"{R}/theme", "../theme/theme1.xml", False)]
        ),
    }  # fmt: skip
    if job.marks:
        slides = [*slides, [mark_of(0, "slides")]]
    for number, texts in enumerate(slides, 1):
        parts[f"ppt/slides/slide{number}.xml"] = _slide(texts)
        parts[f"ppt/slides/_rels/slide{number}.xml.rels"] = made.relationships(
            [("rf1", f"{R}/slideLayout", "../slideLayouts/slideLayout1.xml", False)]
        )
    links = [("rf1", f"{R}/slideMaster", "slideMasters/slideMaster1.xml", False)]
    links += [
        (f"rf{number + 1}", f"{R}/slide", f"slides/slide{number}.xml", False) for number in range(1, len(slides) + 1)
    ]
    parts["ppt/presentation.xml"] = made.presentation(["rf1"], [], [ident for ident, *_ in links[1:]], "")
    parts["ppt/_rels/presentation.xml.rels"] = made.relationships(links)
    parts["_rels/.rels"] = made.relationships([("rf1", f"{R}/officeDocument", "ppt/presentation.xml", False)])
    out = io.BytesIO()
    writer = ZipWriter(out)
    writer.add("[Content_Types].xml", made.content_types(parts, {"ppt/presentation.xml": made.MAIN_TYPES["pptx"]}, {}))
    for name, data in parts.items():
        writer.add(name, data)
    writer.close()
    return out.getvalue()


def _slide(texts: list[str]) -> bytes:
    boxes = []
    step = min(900_000, 5_800_000 // max(len(texts), 1))
    for number, text in enumerate(texts):
        lines = "".join(
            f'<a:p><a:r><a:rPr lang="en-GB" sz="1800"/><a:t>{escaped(line)}</a:t></a:r></a:p>'
            for line in re.split(r"[\r\n]", text)
        )
        boxes.append(
            f'<p:sp><p:nvSpPr><p:cNvPr id="{number + 2}" name="Text {number + 1}"/><p:cNvSpPr txBox="1"/><p:nvPr/></p:nvSpPr><p:spPr><a:xfrm>'
            f'<a:off x="457200" y="{400_000 + number * step}"/><a:ext cx="8229600" cy="{step - 50_000}"/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom></p:spPr>'
            f"<p:txBody><a:bodyPr><a:normAutofit/></a:bodyPr><a:lstStyle/>{lines}</p:txBody></p:sp>"
        )
    return (
        f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n<p:sld xmlns:a="{A}" xmlns:r="{R}" xmlns:p="{P}"><p:cSld><p:spTree><p:nvGrpSpPr>'
        f'<p:cNvPr id="1" name=""/><p:cNvGrpSpPr/><p:nvPr/></p:nvGrpSpPr><p:grpSpPr/>{"".join(boxes)}</p:spTree></p:cSld></p:sld>'
    ).encode()
