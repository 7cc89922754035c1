"""Rust Fern: finds the most recent intact copy of lost documents, and restores it verified. It reads; it never changes.

    import rustfern
    answer = rustfern.scan(["/media/disk"])
    content = rustfern.check("/media/disk/Users/ines/Documents/Hull survey.docx")
    done, refused = rustfern.restore(["1"], "/home/me/restored", case=answer.case)

Loaded lazily (PEP 562): importing the package costs next to nothing.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rustfern._version import __version__

if TYPE_CHECKING:
    from rustfern.api import check, protection, restore, scan
    from rustfern.core.errors import RustFernError
    from rustfern.core.model import Answer, Hints

__all__ = ["Answer", "Hints", "RustFernError", "__version__", "check", "protection", "restore", "scan"]

_WHERE = {
    "scan": "rustfern.api",
    "check": "rustfern.api",
    "restore": "rustfern.api",
    "protection": "rustfern.api",
    "RustFernError": "rustfern.core.errors",
    "Answer": "rustfern.core.model",
    "Hints": "rustfern.core.model",
}


def __getattr__(name: str) -> Any:
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    import importlib

    return getattr(importlib.import_module(_WHERE[name]), name)
