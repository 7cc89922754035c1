"""How two large texts of lines (logs, lists, code) differ. Opens no file."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec.structs import replace

from rustfern.formats.text_sink import words_of
from rustfern.operations.alignment import gaps
from rustfern.operations.text_diff import Change, Comparison, paired


def compare_lines(left: Sequence[bytes], right: Sequence[bytes], words: int) -> Comparison:
    """Compare two texts by their lines (UTF-8); `words` are those of the whole right side. Blank lines are no change."""
    changes: list[Change] = []
    old: Counter[str] = Counter()
    new: Counter[str] = Counter()
    for a, b, c, d in gaps(left, right):
        gone, come = _texts(left[a:b]), _texts(right[c:d])
        old.update(word for line in gone for word in words_of(line))
        new.update(word for line in come for word in words_of(line))
        found = paired(gone, come, 0, 0)
        starts = {"removed": a, "added": c, "changed": c}
        changes += [replace(each, at=starts[each.kind] + each.at + 1) for each in found if _says(each)]
    more = (new - old).total()
    return Comparison(more, (old - new).total(), words - more, tuple(changes))


def _texts(lines: Sequence[bytes]) -> list[str]:
    return [line.decode("utf-8", "replace").rstrip().expandtabs(4) for line in lines]


def _says(change: Change) -> bool:
    return any(run.text for run in change.runs)
