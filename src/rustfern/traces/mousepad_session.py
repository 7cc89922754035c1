"""Mousepad's session, in the desktop's settings database: which autosave belongs to which text.

As observed on Mousepad 0.5.10: the value of `/org/xfce/mousepad/state/application/session` in `~/.config/dconf/user` (a GVDB file) is a list of
texts `N;URL of the autosave;URL of the text`, the last `+` or empty for a text that was never named. The lines are found by their shape: the
database's own tables only lead to them.
"""

from __future__ import annotations

import re

from rustfern.core.errors import Malformed
from rustfern.traces.facts import Kept

_MAGIC = (b"GVariant", b"raVGtnai")
_LINE = re.compile(rb"\d;(file://[^;\0]{0,8192}/autosave-\d{1,20});(file://[^;\0]{0,8192}|\+)?\0")
_LIMIT = 64 << 20


def parse(data: bytes) -> list[Kept]:
    """The texts of the session (URLs as recorded), none if there is none. Raises `Malformed` if this is no settings database."""
    if len(data) > _LIMIT or data[:8] not in _MAGIC:
        raise Malformed("not a settings database of the desktop", 0)
    found = []
    for autosave, original in _LINE.findall(data):
        text = "" if original == b"+" else original.decode("utf-8", "replace")
        found.append(Kept(text, autosave.decode("utf-8", "replace")))
    return list(dict.fromkeys(found))
