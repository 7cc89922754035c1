"""Lays out the attached disk of Marlow Quay Boatyard: always the same files, with fixed times."""

from __future__ import annotations

import gzip
import os
import tarfile
from importlib import resources
from pathlib import Path

from rustfern.core.errors import WrongUsage

ABOUT = "ABOUT THIS DISK.txt"
STICK = "marlow-quay-stick.img"
CARD = "marlow-quay-card.img"
DAMAGED = "marlow-quay-damaged"
_SIGN = "Marlow Quay Boatyard: demo disk of Rust Fern"
_TEXT = f"""{_SIGN}

A small yard that repairs wooden boats; everything here is made up. Three machines:
  office-pc     Windows: Ines Varga (ivarga) and Petra Lund (plund)
  slipway-pc2   Linux: Ines Varga (ines) and Petra Lund (petra)
  loft-laptop   Linux: Tobias Okoro (tobias)
The leftovers of the ODF office suite, the editor and the Linux trash are what the real programs left when they were killed; those
of the OOXML office suite are simulated after public documentation.
"""


def lay_out(target: str) -> int:
    """Write the disk below `target` (made if missing) and return the number of files.

    A folder that holds anything else is refused with `WrongUsage`; one laid out before is laid out afresh, file by file.
    """
    base = Path(target)
    try:
        if base.exists() and any(base.iterdir()):
            about = base / ABOUT
            if not (about.is_file() and about.read_text("utf-8", "replace").startswith(_SIGN)):
                raise WrongUsage("this folder is not empty", target, "Name a new one with --to DIR")
        base.mkdir(parents=True, exist_ok=True)
        (base / ABOUT).write_text(_TEXT, "utf-8")
        os.utime(base / ABOUT, (1_795_420_800, 1_795_420_800))
        return 1 + _unpack(base)
    except OSError as error:
        what = (error.strerror or str(error)).lower()
        raise WrongUsage(
            f"the demo disk cannot be laid out here ({what})", target, "Name another folder with --to DIR"
        ) from error


def lay_out_stick(target: str) -> str:
    """Write the image of the boatyard's stick beside the disk, as `lay_out_image` does."""
    return lay_out_image(target, STICK, "stick.img.gz")


def lay_out_card(target: str) -> str:
    """Write the image of a card that was formatted by mistake beside the disk, as `lay_out_image` does."""
    return lay_out_image(target, CARD, "formatted.img.gz")


def lay_out_image(target: str, name: str, packed_name: str) -> str:
    """Write an image beside the disk, and return its path; one that is there already stays.

    Raises `WrongUsage` where something else has its name, or it cannot be written.
    """
    path = Path(os.path.dirname(os.path.abspath(target))) / name
    with (resources.files(__package__) / "data" / packed_name).open("rb") as packed:
        data = gzip.decompress(packed.read())
    try:
        if path.exists():
            if path.read_bytes() != data:
                raise WrongUsage("a file of this name is there already", str(path), "Name another folder with --to DIR")
        else:
            path.write_bytes(data)
            os.utime(path, (1_795_420_800, 1_795_420_800))
    except OSError as error:
        what = (error.strerror or str(error)).lower()
        next_step = "Name another folder with --to DIR"
        raise WrongUsage(f"the image cannot be laid out ({what})", str(path), next_step) from error
    return str(path)


def lay_out_damaged(target: str) -> str:
    """Write the folder of documents that nobody can open beside the disk, and return its path. Raises `WrongUsage` where it cannot be written."""
    base = Path(os.path.dirname(os.path.abspath(target))) / DAMAGED
    try:
        base.mkdir(exist_ok=True)
        _unpack(base, "damaged.tar.gz")
    except OSError as error:
        what = (error.strerror or str(error)).lower()
        next_step = "Name another folder with --to DIR"
        raise WrongUsage(f"the damaged documents cannot be laid out ({what})", str(base), next_step) from error
    return str(base)


def _unpack(base: Path, name: str = "disk.tar.gz") -> int:
    count = 0
    data = resources.files(__package__) / "data" / name
    with data.open("rb") as stream, tarfile.open(fileobj=stream, mode="r:gz") as archive:
        for member in archive:
            content = archive.extractfile(member)
            if content is None:
                continue
            path = base / member.name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content.read())
            os.utime(path, (member.mtime, member.mtime))
            count += 1
    return count
