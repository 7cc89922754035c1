"""Paths on other machines as text: people write `davs://host/folder`, inside it is `/davs:host/folder`, which every function of paths takes
for an absolute path, and which no file system has.
"""

from __future__ import annotations

import os
import re
from urllib.parse import unquote

SCHEMES = ("dav", "davs", "sftp")
_WRITTEN = re.compile(rf"({'|'.join(SCHEMES)})://([^/?#\s]+)(/.*)?", re.DOTALL | re.IGNORECASE)
_INSIDE = re.compile(rf"/({'|'.join(SCHEMES)}):([^/]+)(/.*)?", re.DOTALL)
_SHOWN = re.compile(rf"(?:(?<=[\s\"'(\[=])|^)/({'|'.join(SCHEMES)}):(?=[^/\s])")


def inside_form(text: str) -> str:
    """A remote address in the form that is used inside; anything else as it is. A password in it is left out."""
    found = _WRITTEN.fullmatch(text)
    if found is None:
        return text
    user, at, host = found[2].rpartition("@")
    user = unquote(user.partition(":")[0])
    folder = os.path.normpath(unquote(found[3] or "/")).replace(os.sep, "/").strip("/")
    return f"/{found[1].casefold()}:{user}{at}{host.casefold()}" + (f"/{folder}" if folder not in ("", ".") else "")


def is_remote(path: str) -> bool:
    """Whether a path, in either form, lies on another machine."""
    return path.startswith(_STARTS) and (_INSIDE.fullmatch(path) or _WRITTEN.fullmatch(path)) is not None


_STARTS = tuple(f"/{scheme}:" for scheme in SCHEMES) + tuple(f"{scheme}://" for scheme in SCHEMES)


def parts_of(path: str) -> tuple[str, str, str, str]:
    """(scheme, user or "", host with port, path there from its root on) of a remote path. Raises `ValueError` for any other."""
    found = _INSIDE.fullmatch(path)
    if found is None:
        raise ValueError(path)
    user, _, host = found[2].rpartition("@")
    return found[1], user, host, found[3] or "/"


def top_of(path: str) -> str:
    """The part of a remote path that names the machine."""
    scheme, user, host, _ = parts_of(path)
    return f"/{scheme}:{user}{'@' if user else ''}{host}"


def as_written(text: str) -> str:
    """A text with remote paths in it in the form in which people write them."""
    return _SHOWN.sub(r"\1://", text) if "/dav" in text or "/sftp:" in text else text
