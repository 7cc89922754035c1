"""What was checked, part by part: the members of a package or the streams of a compound file, each with its own verdict."""

from __future__ import annotations

import io
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.archives import zip as zips
from rustfern.formats.interface import DEFAULT_LIMITS
from rustfern.formats.office.compound_file import SIGNATURE, Compound
from rustfern.formats.office.xml_parts import run

_XML = (".xml", ".rels", ".svg", ".opf", ".ncx", ".xhtml", ".model")


class Part(msgspec.Struct, frozen=True):
    """One part, its size in bytes, and what is wrong with it (empty: nothing)."""

    name: str
    size: int
    wrong: str = ""


def parts(stream: BinaryIO) -> list[Part]:
    """The parts that a file is made of; none where it is one piece, or its list of parts is lost."""
    size = stream.seek(0, io.SEEK_END)
    stream.seek(0)
    head = stream.read(8)
    try:
        if head[:4] == b"PK\x03\x04":
            return _members(zips.Archive(stream, size, DEFAULT_LIMITS))
        if head == SIGNATURE:
            return _streams(Compound(stream, size))
    except Malformed:
        return []
    return []


def _members(archive: zips.Archive) -> list[Part]:
    out = []
    manifest = "META-INF/manifest.xml"
    # Parts that a password protects are no XML that could be read.
    locked = manifest in archive.members and b"encryption-data" in archive.bytes_of(manifest)
    for member in archive.members.values():
        wrong = ""
        if not member.is_folder and not member.encrypted:
            try:
                chunks = archive.read(member)
                if member.name.casefold().endswith(_XML) and member.size and not locked:
                    run(chunks, None, member.name)
                else:
                    for _ in chunks:
                        pass
            except Malformed as error:
                wrong = str(error)
        out.append(Part(member.name, member.size, wrong))
    return out


def _streams(compound: Compound) -> list[Part]:
    return [Part(path, compound.size(path) or 0) for path in compound.paths]
