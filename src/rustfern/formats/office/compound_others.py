"""What else lies in compound files: mail messages, binary diagrams, publisher layouts.

Source: [MS-OXMSG] 2.1 (storages and names of streams), 2.4 (property streams: 16 bytes an entry, the length of what lies in a
stream of its own), [MS-OXPROPS] (subject, sender, body, display name); [MS-CFB]. The insides of diagrams and layouts are not published: their
first bytes and, for diagrams, the place of the trailer are looked at.
"""

from __future__ import annotations

import struct

from rustfern.core.errors import Malformed
from rustfern.formats.office.compound_file import Compound
from rustfern.formats.text_sink import TextSink

_PROPERTIES = "__properties_version1.0"
_UNICODE, _BYTES_TEXT, _BINARY = 0x1F, 0x1E, 0x102
_SUBJECT, _SENDER, _BODY = 0x0037, 0x0C1A, 0x1000


def message(compound: Compound, sink: TextSink, amounts: dict[str, int]) -> tuple[str | None, str | None]:
    """Follow a message, its receivers and attachments: every property that lies in a stream of its own has its length. Gives (subject, sender)."""
    values = _storage(compound, "", 32)
    attachments = receivers = 0
    folders = sorted({path.partition("/")[0] for path in compound.paths if "/" in path})
    for folder in folders:
        if folder.startswith("__attach_version1.0_#"):
            _storage(compound, folder + "/", 8)
            attachments += 1
        elif folder.startswith("__recip_version1.0_#"):
            _storage(compound, folder + "/", 8)
            receivers += 1
    head = compound.read(_PROPERTIES) or b""
    wanted_receivers, wanted_attachments = struct.unpack_from("<II", head, 16)
    if attachments < wanted_attachments or receivers < wanted_receivers:
        what = "attachments" if attachments < wanted_attachments else "receivers"
        raise Malformed(f"the message has fewer {what} than it says")
    amounts["attachments"] = attachments
    for ident in (_SUBJECT, _BODY):
        for line in values.get(ident, "").splitlines():
            sink.add(line, "heading" if ident == _SUBJECT else "line", int(ident == _SUBJECT))
    return values.get(_SUBJECT), values.get(_SENDER)


def _storage(compound: Compound, prefix: str, head: int) -> dict[int, str]:
    """The properties of one storage; texts by their number."""
    data = compound.read(prefix + _PROPERTIES)
    where = f" of {prefix.rstrip('/')}" if prefix else ""
    if data is None:
        raise Malformed(f"the list of properties{where} is missing")
    if len(data) < head or (len(data) - head) % 16:
        raise Malformed(f"the list of properties{where} stops before its end")
    texts: dict[int, str] = {}
    for at in range(head, len(data), 16):
        kind, ident, _flags, length = struct.unpack_from("<HHII", data, at)
        if kind not in (_UNICODE, _BYTES_TEXT, _BINARY):
            continue
        body = compound.read(f"{prefix}__substg1.0_{ident:04X}{kind:04X}")
        if body is None:
            raise Malformed(f"property {ident:04X}{where} is missing")
        # The lengths of texts count the closing zero, which is not written.
        closing = {_UNICODE: 2, _BYTES_TEXT: 1, _BINARY: 0}[kind]
        if len(body) not in (length - closing, length):
            raise Malformed(f"property {ident:04X}{where} has {len(body)} of {length - closing} bytes")
        if kind == _UNICODE:
            texts[ident] = body.decode("utf-16-le", "replace")
        elif kind == _BYTES_TEXT:
            texts[ident] = body.decode("cp1252", "replace")
    return texts


def diagram(data: bytes) -> None:
    """The main stream of a binary diagram: its first words, and a trailer that lies inside. Raises `Malformed`."""
    if data[5:20] != b" (TM) Drawing\r\n":
        raise Malformed("the main stream of the diagram does not begin as one", 0)
    if len(data) < 0x36:
        raise Malformed("the main stream of the diagram stops inside its header", len(data))
    offset, length = struct.unpack_from("<II", data, 0x2C)
    if offset + length > len(data):
        raise Malformed("the main stream of the diagram stops before its trailer", len(data))


def layout(compound: Compound) -> None:
    """A publisher layout: its text and its objects are there. Raises `Malformed`."""
    text = next((path for path in compound.paths if path.casefold() == "quill/quillsub/contents"), None)
    if text is None or not (compound.read(text) or b"").startswith(b"CHNKINK"):
        raise Malformed("the text of the layout is missing")
    if not compound.read("Contents"):
        raise Malformed("the objects of the layout are missing")
