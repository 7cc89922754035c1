"""Disks without any record, laid out for tests: documents in whole and in pieces, what lies between, decoys."""

from __future__ import annotations

import functools
import hashlib
import random
import tarfile
from pathlib import Path

CLUSTER = 4096
DATA = Path(__file__).parent / "data"
_PACKS = ("documents", "media", "office", "packages", "looks", "strange", "sevenzip")


@functools.cache
def whole_documents() -> dict[str, bytes]:
    """Name → bytes of the whole documents of the tests."""
    found: dict[str, bytes] = {}
    for pack in _PACKS:
        with tarfile.open(DATA / f"{pack}.tar.xz") as tar:
            for member in tar:
                if member.isfile() and "damaged" not in member.name and (stream := tar.extractfile(member)) is not None:
                    found.setdefault(member.name.rpartition("/")[2], stream.read())
    return found


class Layout:
    """A disk while it is laid out. `places` tells where each document lies."""

    def __init__(self, seed: int = 1) -> None:
        self.chance = random.Random(seed)
        self.data = bytearray(64 * CLUSTER)
        self.places: dict[str, list[tuple[int, int]]] = {}

    def put(self, name: str, data: bytes) -> None:
        """A document in one piece."""
        self.places.setdefault(name, []).append((len(self.data), len(data)))
        self.data += data + bytes(-len(data) % CLUSTER)

    def noise(self, clusters: int) -> None:
        """Bytes of nobody."""
        self.data += self.chance.randbytes(clusters * CLUSTER)

    def split(self, name: str, data: bytes, cut: int, between: bytes) -> None:
        """A document in two pieces: `cut` clusters, what lies between, the rest."""
        self.put(name, data[: cut * CLUSTER])
        self.data += between + bytes(-len(between) % CLUSTER)
        self.put(name, data[cut * CLUSTER :])

    def write(self, path: Path) -> Path:
        """The image."""
        path.write_bytes(self.data)
        return path


def sha256(data: bytes) -> str:
    """The sum by which a find is told."""
    return hashlib.sha256(data).hexdigest()
