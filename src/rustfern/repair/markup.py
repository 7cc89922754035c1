"""SVG, other XML, and web pages: closed where they were cut, cleaned of what no program reads.

Source: XML 1.0 (fifth edition), 2.1 and 3.1; SVG 1.1, 5.1 (document structure); HTML living standard, 13.1.2 (void elements, tags).
"""

from __future__ import annotations

import re
from typing import BinaryIO

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.odf import repair_flat, split_zeros
from rustfern.repair.text import decoded
from rustfern.repair.xml_mend import Grammar, escaped, first_fault, mark_of, mend_to_the_end, tags

_VOID = frozenset(
    ["area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "param", "source", "track", "wbr"]
)
_LOOSE = frozenset(["p", "li", "dt", "dd", "td", "th", "tr", "thead", "tbody", "tfoot", "option", "colgroup"])
_TAG = re.compile(
    r"<(?:!--.*?-->|!\[CDATA\[.*?\]\]>|![^>]*>|\?[^>]*>|(/?)([A-Za-z][\w:-]*+)((?:[^<>\"']++|\"[^\"]*+\"|'[^']*+')*+)>)",
    re.DOTALL,
)
_SHORT_TAG = re.compile(r"<(?:![^>]*>|\?[^>]*>|(/?)([A-Za-z][\w:-]*+)((?:[^<>\"']++|\"[^\"]*+\"|'[^']*+')*+)>)")
"""The same where no comment and no section of letters ends any more: none is sought from each place where one may begin."""
_ELEMENT = re.compile(
    rb"<(?:!--.*?-->|!\[CDATA\[.*?\]\]>|(/?)([A-Za-z_][\w:.-]*)((?:[^<>\"'/]|/(?!>)|\"[^\"<]*\"|'[^'<]*')*)(/?)>)",
    re.DOTALL,
)
_PREFIXED = re.compile(rb"\s([\w.-]+:[\w.-]+)\s*=")
_DEEPEST = 200
_RAW = frozenset(("script", "style", "textarea", "title"))


def _svg_mark(text: str) -> bytes:
    return f'<text x="10" y="20">{escaped(text)}</text>'.encode()


_SHAPES = tuple(
    b"g a path rect circle ellipse line polyline polygon text image use defs style title desc switch symbol".split()
)
SVG = Grammar(
    opening=b'<?xml version="1.0" encoding="UTF-8"?><svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink">',
    containers={b"svg": _svg_mark}, unit=b"text",
    atomic=frozenset({b"defs", b"style", b"metadata", b"script", b"clipPath", b"mask", b"pattern", b"linearGradient", b"radialGradient", b"filter"}),
    parents={**dict.fromkeys(_SHAPES, (b"svg", b"g", b"a", b"symbol", b"switch")), b"tspan": (b"text", b"tspan")},
    namespaces={
        "xlink": "http://www.w3.org/1999/xlink", "inkscape": "http://www.inkscape.org/namespaces/inkscape", "svg": "http://www.w3.org/2000/svg",
        "sodipodi": "http://sodipodi.sourceforge.net/DTD/sodipodi-0.dtd", "rdf": "http://www.w3.org/1999/02/22-rdf-syntax-ns#",
        "dc": "http://purl.org/dc/elements/1.1/", "cc": "http://creativecommons.org/ns#",
    },
)  # fmt: skip
_ANY = Grammar(opening=b"", containers={}, unit=b"")


def repair_svg(job: Job, out: BinaryIO) -> Outcome:
    """Write a drawing that is closed. Raises `NothingLeft`."""
    return _xml(job, out, SVG, "texts")


def repair_xml(job: Job, out: BinaryIO) -> Outcome:
    """Write an XML document that is well-formed; a flat ODF one as such. Raises `NothingLeft`."""
    if b"<office:document " in job.data(4096, in_part=True):
        return repair_flat(job, out)
    return _xml(job, out, _ANY, "")


def _xml(job: Job, out: BinaryIO, grammar: Grammar, said: str) -> Outcome:
    data = job.data()
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        data = data.decode("utf-16", "replace").encode()
        data = re.sub(rb'encoding="[^"]*"', b'encoding="UTF-8"', data, count=1)
    stretches, holes = split_zeros(data)
    if grammar is _ANY and holes:
        data = b"".join(stretches)
        stretches = [data]
    rooted = stretches[0]
    if grammar is _ANY and not data.lstrip(b"\xef\xbb\xbf\t\r\n ").startswith(b"<?xml"):
        rooted = _under_lost_roots(stretches[0])
    is_rooted = rooted is not stretches[0]
    stretches[0] = rooted
    fault = first_fault(stretches[0])
    if fault is None and not holes and not is_rooted:
        raise NothingLeft("nothing is wrong with it")
    if b"<" not in data:
        raise NothingLeft("no markup is left in it")
    marks = job.marks and bool(grammar.containers)
    mended = mend_to_the_end(stretches, grammar, complete=not holes, marks=marks, said=said)
    if mended is None:
        raise NothingLeft("its markup cannot be put in order")
    if not re.search(rb"<[A-Za-z]", mended.data[:65536]):
        raise NothingLeft("no element of it is left")
    out.write(mended.data)
    steps = (Step.CLOSED if mended.closed else Step.CLEANED, *((Step.ZEROS,) if holes else ()))
    place = 0 if is_rooted else fault if fault is not None else len(stretches[0])
    lost = (Loss(LossKind.OBJECTS, "", mended.missing, place),) if mended.closed or holes or is_rooted else ()
    return Outcome(job.format, steps, lost)


def _under_lost_roots(data: bytes) -> bytes:
    """A document whose beginning is lost, under elements of the names that only end in it; a prefix that was declared there gets a name of its own."""
    opened: list[bytes] = []
    lost: list[bytes] = []
    prefixes: set[bytes] = set()
    for found in tags(data, _ELEMENT):
        name = found[2]
        if name is None or not name.isascii():
            continue
        prefixes.update(each.partition(b":")[0] for each in (name, *_PREFIXED.findall(found[3] or b"")) if b":" in each)
        if not found[1]:
            if not found[4]:
                opened.append(name)
        elif name in opened[-_DEEPEST:]:
            while opened.pop() != name:
                pass
        elif len(lost) < _DEEPEST:
            lost.append(name)
    if not lost:
        return data
    declared = {found[1] for found in re.finditer(rb"xmlns:([\w.-]+)\s*=", data)} | {b"xml", b"xmlns"}
    spaces = b"".join(b' xmlns:%b="urn:unknown:%b"' % (each, each) for each in sorted(prefixes - declared)[:100])
    begin = data.find(b"<")
    # What stands in front of the first tag is a text, or the rest of a tag.
    head = data[:begin].rpartition(b">")[2]
    head = b"" if b'="' in head else head
    outer, *inner = reversed(lost)
    roots = b"<" + outer + spaces + b">" + b"".join(b"<" + name + b">" for name in inner)
    return b'<?xml version="1.0" encoding="UTF-8"?>' + roots + head + data[begin:]


def _without_torn_tags(data: bytes) -> bytes:
    """A page without the halves of tags on both sides of runs of zeros; the zeros stay."""
    if data.count(0) > len(data) // 8 and b"\0\0" not in data:
        return data  # two bytes a letter
    pieces = re.split(rb"(\0{2,})", data)
    for n in range(1, len(pieces), 2):
        before, after = pieces[n - 1], pieces[n + 1]
        if before.rfind(b"<") > before.rfind(b">"):
            pieces[n - 1] = before[: before.rfind(b"<")]
        end, start = after.find(b">"), after.find(b"<")
        if end >= 0 and (end < start or start < 0):
            pieces[n + 1] = after[end + 1 :]
    return b"".join(pieces)


def repair_html(job: Job, out: BinaryIO) -> Outcome:
    """Write a web page whose elements are closed. Raises `NothingLeft`."""
    lost: list[Loss] = []
    steps: list[Step] = []
    text, encoding = decoded(_without_torn_tags(job.data()), lost, steps, "")
    open_tags: list[str] = []
    at = 0
    last = max(text.rfind("-->"), text.rfind("]]>"))
    end = text.rfind(">") + 1
    while (found := (_TAG if at <= last else _SHORT_TAG).search(text, at, end)) is not None:
        at = found.end()
        name = (found[2] or "").casefold()
        if not name:
            continue
        if found[1]:
            if name in open_tags:
                while open_tags and open_tags.pop() != name:
                    pass
        elif name not in _VOID and not found[3].rstrip().endswith("/"):
            open_tags.append(name)
            if name in _RAW:
                closing_tag = re.compile(f"</{name}", re.IGNORECASE).search(text, at)
                at = closing_tag.start() if closing_tag else len(text)
    rest = text.rfind("<", at)
    if rest >= 0 and (text[rest + 1 : rest + 2].isalpha() or text[rest + 1 : rest + 2] in ("/", "!", "")):
        text = text[:rest]
    mark = f"<p><em>{mark_of(0, 'paragraphs')}</em></p>" if job.marks else ""
    closing = [f"</{name}>" for name in reversed(open_tags) if name not in _LOOSE or name in ("td", "tr")]
    inner = [each for each in closing if each not in ("</body>", "</html>")]
    outer = [each for each in closing if each in ("</body>", "</html>")]
    if open_tags:
        steps.append(Step.CLOSED)
        lost.append(Loss(LossKind.PARAGRAPHS, "", 0, len(text)))
        text += "".join(inner) + mark + "".join(outer)
        if "<html" in text[:4096].casefold() and "</html>" not in text:
            text += "</html>"
    if not steps:
        raise NothingLeft("nothing in it can be set right")
    out.write(text.encode(encoding, "replace"))
    return Outcome(job.format, tuple(dict.fromkeys(steps)), tuple(lost))
