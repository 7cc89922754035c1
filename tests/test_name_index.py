"""The index of names: what a large search looks up by hashes is what a small one looks up plainly."""

from __future__ import annotations

import os
import sqlite3

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rustfern.cases import name_index
from rustfern.core.paths import fold_name

_NAME = st.text(st.sampled_from("aäA\u0308bß.~ \udcff☂"), min_size=1, max_size=8).filter(lambda n: n not in (".", ".."))
_DISK = st.dictionaries(
    st.sampled_from([f"/home/ines/{x}" for x in "abcdef"]), st.sets(_NAME, min_size=1, max_size=12), min_size=1
)


def index(disk: dict[str, set[str]], few: int) -> name_index.NameIndex:
    made = name_index.NameIndex.anew(sqlite3.connect(":memory:"))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(name_index, "_MAX_PLAIN_NAMES", few)
        for folder, inner in disk.items():
            made.add([(folder, sorted(inner, reverse=True))])
    return made


@given(_DISK)
def test_few_and_many_names_are_found_alike(disk: dict[str, set[str]]) -> None:
    few, many = index(disk, 10_000), index(disk, 0)
    for folder, inner in disk.items():
        assert few.in_folder(folder) == many.in_folder(folder) == [f"{folder}/{name}" for name in sorted(inner)]
        for name in inner:
            path, stem = f"{folder}/{name}", name_index.stem_of(fold_name(name))
            assert path in few.by_name(name) and few.by_name(name) == many.by_name(name)
            assert path in few.by_stem(stem) and few.by_stem(stem) == many.by_stem(stem)
            assert path in few.beside(folder, stem) and few.beside(folder, stem) == many.beside(folder, stem)
            assert all(fold_name(os.path.basename(found)) == fold_name(name) for found in few.by_name(name))
            extension = fold_name(name)[len(stem) + 1 :]
            if extension.isascii() and name.lower().endswith(f".{extension}"):
                assert path in few.with_extension(extension) == many.with_extension(extension)
    assert few.by_name("nothing.odt") == many.by_name("nothing.odt") == []
